package pairing

import (
	"fmt"
	"slices"
	"time"

	"nurvik/core/facts"
)

// Answer says whether a key and a certificate belong together, and why.
type Answer struct {
	Belong      bool    `json:"belong"`
	Known       bool    `json:"known" doc:"False when the question could not be answered"`
	Sentence    string  `json:"sentence"`
	Key         *Member `json:"key,omitempty"`
	Certificate *Member `json:"certificate,omitempty" doc:"Or the request, where there is no certificate"`
}

// Ask answers whether the private key in the first files belongs to the
// certificate in the others. Of a bundle the leaves count; where there is no
// certificate, a request does.
func Ask(keyFiles, certificateFiles []facts.File) Answer {
	keys := only(keyFiles, facts.PrivateKey)
	if len(keys) == 0 {
		return Answer{Sentence: fmt.Sprintf("There is no private key in %s.", pathsOf(keyFiles))}
	}
	certificates := only(certificateFiles, facts.Certificate)
	if leaves := slices.DeleteFunc(slices.Clone(certificates),
		func(m Member) bool { return m.CA }); len(leaves) > 0 {
		certificates = leaves
	}
	if len(certificates) == 0 {
		certificates = only(certificateFiles, facts.Request)
	}
	if len(certificates) == 0 {
		return Answer{Sentence: fmt.Sprintf("There is no certificate in %s.", pathsOf(certificateFiles))}
	}
	for _, k := range keys {
		for _, c := range certificates {
			if k.Comparable() && k.Match() == c.Match() {
				if costly(keyFiles, k.Path) || costly(certificateFiles, c.Path) {
					return Answer{Key: &k, Certificate: &c,
						Sentence: "The integrity of the keystore was not checked: its password would have to be " +
							"stretched in more rounds than the limit allows. What is in it may have been exchanged, " +
							"so nothing is said of it."}
				}
				return Answer{Belong: true, Known: true, Key: &k, Certificate: &c,
					Sentence: fmt.Sprintf("They belong together: the %s of %s has the public half of this key (%s).",
						kindWord(c), c.Brief.Label, c.Summary.Key)}
			}
		}
	}
	for _, k := range keys {
		if !k.Comparable() {
			sentence := "The public half of the key cannot be computed here, so it cannot be compared."
			if reason := k.Closed(); reason != "" {
				sentence = lockedSentence[reason]
			}
			return Answer{Key: &k, Certificate: &certificates[0], Sentence: sentence}
		}
	}
	k, c := keys[0], certificates[0]
	sentence := fmt.Sprintf("They do not belong together: the key is %s, and the %s of %s is for another key, %s.",
		k.Summary.Key, kindWord(c), c.Brief.Label, c.Summary.Key)
	if k.Summary.Key == c.Summary.Key {
		sentence = fmt.Sprintf("They do not belong together: both are %s, but the public key in the %s of %s is "+
			"another one.", c.Summary.Key, kindWord(c), c.Brief.Label)
	}
	return Answer{Known: true, Key: &k, Certificate: &c, Sentence: sentence}
}

// costly reports whether the integrity of a keystore was not checked because that would cost too much.
func costly(files []facts.File, path string) bool {
	return slices.ContainsFunc(files, func(f facts.File) bool {
		return f.Path == path && slices.ContainsFunc(f.Items, func(item facts.Item) bool {
			return item.Kind == facts.Keystore && item.Locked == facts.TooCostly
		})
	})
}

// lockedSentence: a wrong password, damage and missing support are different things.
var lockedSentence = map[string]string{
	facts.NoPassword: "The key is protected by a password, and none was given; name a file with it with " +
		"--password-file, or set NURVIK_PASSWORD.",
	facts.WrongPassword: "The key could not be opened: the password is wrong.",
	facts.Unsupported:   "The key could not be opened: its protection is not supported.",
	facts.TooCostly:     "The key could not be opened: deriving it from the password costs more than the limit allows.",
	facts.DamagedInside: "The key could not be opened: it is damaged.",
}

func only(files []facts.File, kind facts.ItemKind) []Member {
	var out []Member
	for i := range files {
		for n := range files[i].Items {
			if m, ok := member(&files[i], n, nil, time.Time{}); ok && m.Kind == kind {
				out = append(out, m)
			}
		}
	}
	return out
}

func kindWord(m Member) string {
	if m.Kind == facts.Request {
		return "request"
	}
	return "certificate"
}

func pathsOf(files []facts.File) string {
	if len(files) == 0 {
		return "what was read"
	}
	return files[0].Path
}
