package judge

import (
	"fmt"
	"slices"
	"sync"

	"nurvik/core/facts"
	"nurvik/core/pairing"
	"nurvik/core/pki"
)

// pairs is a set of files under judgement. What the checks ask of it is found
// out when it is made, so that no check depends on another.
type pairs struct {
	files    []facts.File
	result   *pairing.Result
	context  *Context
	sets     []pairing.Set
	mismatch map[pki.Fingerprint]bool // keys of a set whose key and certificate do not belong together
	behind   map[int]bool             // files whose keystore differs from what is beside it
	index    sync.Once                // for byID: files and configurations are judged side by side
	byID     map[pki.Fingerprint][]pairing.Member

	broken, besideBroken []*pairing.Member // keys in keystores, and the certificates beside them that they do not fit
}

// located is a finding with the index of the file that it is about.
type located struct {
	file int
	Finding
}

func newPairs(files []facts.File, result *pairing.Result, context *Context) *pairs {
	p := &pairs{files: files, result: result, context: context, sets: result.Sets(),
		mismatch: map[pki.Fingerprint]bool{}, behind: map[int]bool{}}
	for _, s := range p.sets {
		_, _, wrong := s.Mismatch()
		if wrong {
			for _, m := range slices.Concat(s.Keys, s.Certificates) {
				p.mismatch[m.Match()] = true
			}
		}
		if store, _, disagree := s.Disagreement(); disagree && !(wrong && agreesWithOne(s)) {
			p.behind[store.File()] = true
		}
	}
	p.broken, p.besideBroken = result.Broken()
	for i, key := range p.broken {
		p.mismatch[key.Match()], p.mismatch[p.besideBroken[i].Match()] = true, true
	}
	return p
}

// agreesWithOne reports whether the keystore has the key of the key file or of the certificate file.
func agreesWithOne(s pairing.Set) bool {
	others := slices.Concat(s.Keys, s.Certificates)
	return slices.ContainsFunc(s.Stores, func(entry *pairing.Member) bool {
		return slices.ContainsFunc(others, func(m *pairing.Member) bool { return m.Match() == entry.Match() })
	})
}

// of makes a finding about a member of its file.
func (p *pairs) of(m pairing.Member, f Finding) located {
	f.Evidence.Line, f.Evidence.Key = m.Line, m.Summary.Key
	return located{m.File(), f}
}

// called is what people call a member: its path and, in a keystore, its alias.
func called(m pairing.Member) string {
	if m.Alias != "" {
		return fmt.Sprintf("%s (%s)", m.Path, m.Alias)
	}
	return m.Path
}

// holders are the files that hold material of the kind with the key.
func (p *pairs) holders(match pki.Fingerprint, kind facts.ItemKind) []string {
	var out []string
	for _, m := range p.members(match) {
		if m.Kind == kind && !slices.Contains(out, m.Path) {
			out = append(out, m.Path)
		}
	}
	return out
}

// members are those with the key, or, of certificates, with the fingerprint.
func (p *pairs) members(id pki.Fingerprint) []pairing.Member {
	p.index.Do(func() {
		p.byID = map[pki.Fingerprint][]pairing.Member{}
		for _, m := range p.result.Members() {
			p.byID[m.Match()] = append(p.byID[m.Match()], m)
			if m.Kind == facts.Certificate {
				p.byID[m.SHA256] = append(p.byID[m.SHA256], m)
			}
		}
	})
	return p.byID[id]
}
