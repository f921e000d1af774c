package ciphers

import (
	"nurvik/core/tlswire"
	"regexp"
	"slices"
	"strings"
)

// Allowed is what a text in one of the languages allows.
type Allowed struct {
	Suites   []tlswire.Suite   // up to TLS 1.2, in the order of preference
	Suites13 []tlswire.Suite   // of TLS 1.3; nil where the text does not speak of them
	Versions []tlswire.Version // newest first; nil where the text does not speak of them
	Groups   []tlswire.Group   // nil where the text does not speak of them
	// signatures of the server's key, as GnuTLS calls them; nil where the text does not speak of them
	Signatures []string
	Level      int // the security level that it asks for, NoLevel for none

	ServerOrder bool     // it asks for the server's order
	Unknown     []string // words that mean nothing to the library
}

// NoLevel says that a text does not set the security level.
const NoLevel = -1

// most bounds what is kept of a text that somebody made endless.
const most = 4096

// Known reports whether a word is one of the languages' own: a keyword, a suite, a version, a group or an option. What
// somebody wrote by mistake is not.
func Known(word string) bool {
	bare := strings.TrimLeft(word, "!+-@%?*")
	upper := strings.ToUpper(bare)
	if Debian.Is(bare) || (OpenSSL{Weak: true}).Is(bare) || slices.Contains(pastWords, bare) {
		return true
	}
	if _, is := opensslGroups[strings.ToLower(bare)]; is {
		return true
	}
	if _, is := gnutlsLevels[upper]; is {
		return true
	}
	if _, is := gnutlsAll[upper]; is {
		return true
	}
	for k := range kinds {
		if _, is := gnutlsWord(k, upper); is {
			return true
		}
	}
	if _, is := tlswire.SuiteNamed(registered(bare)); is {
		return true
	}
	return slices.Contains(languageWords, upper) || levelWord.MatchString(upper)
}

// languageWords are options and words that stand beside the others.
var languageWords = strings.Fields("STRENGTH DEFAULT AUTO SERVER_PRECEDENCE COMPAT SAFE_RENEGOTIATION SIGN-ALL " +
	"COMP-NULL CTYPE-ALL CTYPE-X.509 NO_EXTENSIONS NO_TICKETS SYSTEM")

var levelWord = regexp.MustCompile(`^SECLEVEL=[0-5]$`)
