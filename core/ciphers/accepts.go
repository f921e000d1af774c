package ciphers

import (
	"slices"
	"strings"

	"nurvik/core/tlswire"
)

// Server is what a server has beside its list of suites. It decides which of them can be used.
type Server struct {
	Versions []tlswire.Version // that it is told to speak
	RSA      bool              // it has a certificate with an RSA key
	ECDSA    bool              // or with an EC key
	Curves   []string          // of its EC keys, such as P-256; none where that is not known
	EdDSA    bool              // or with an Ed25519 or Ed448 key
	DHE      bool              // it has parameters for DHE, or chooses them itself
}

// Accepted is a version with the suites that are accepted in it, in the order of preference.
type Accepted struct {
	Version tlswire.Version
	Suites  []tlswire.Suite
}

// Accepts is what a server with this library accepts, newest version first: versions without a suite are left out.
// refused
// are versions that it is told to speak and that the security level does not allow.
func (l OpenSSL) Accepts(a Allowed, s Server) (accepted []Accepted, refused []tlswire.Version) {
	level := a.Level
	if level == NoLevel {
		level = l.Level
	}
	suites13 := a.Suites13
	if suites13 == nil {
		suites13 = Default13
	}
	for _, v := range newestFirst(s.Versions) {
		var usable []tlswire.Suite
		switch {
		case v == tlswire.SSL20 || v == tlswire.SSL30 && !l.Weak: // Debian's builds have neither
			refused = append(refused, v)
			continue
		case !l.allows(v, level):
			refused = append(refused, v)
			continue
		case v == tlswire.TLS13:
			if s.RSA || s.ECDSA || s.EdDSA {
				usable = slices.Clone(suites13)
			}
		default:
			for _, suite := range a.Suites {
				if x := opensslNumbered(suite); x != nil && x.usable(v, level, s) {
					usable = append(usable, suite)
				}
			}
		}
		if len(usable) > 0 {
			accepted = append(accepted, Accepted{v, usable})
		}
	}
	return accepted, refused
}

func newestFirst(list []tlswire.Version) []tlswire.Version {
	out := slices.Clone(list)
	slices.Sort(out)
	slices.Reverse(out)
	return slices.Compact(out)
}

// allows reports whether the security level lets a version be spoken (SSL_CTX_set_security_level(3)).
func (l OpenSSL) allows(v tlswire.Version, level int) bool {
	switch {
	case l.Major >= 3:
		return v >= tlswire.TLS12 || level < 1
	case v <= tlswire.SSL30:
		return level < 2
	case v == tlswire.TLS10:
		return level < 3
	case v == tlswire.TLS11:
		return level < 4
	}
	return true
}

func opensslNumbered(suite tlswire.Suite) *opensslSuite {
	all := opensslSuites()
	i := slices.IndexFunc(all, func(s opensslSuite) bool { return s.suite == suite })
	if i < 0 {
		return nil
	}
	return &all[i]
}

// levelBits is how strong a cipher must be, in bits, at a level.
var levelBits = []int{0, 80, 112, 128, 192, 256}

func (x *opensslSuite) usable(v tlswire.Version, level int, s Server) bool {
	if x.oldest == "TLSv1.2" && v < tlswire.TLS12 || x.oldest == "TLSv1" && v < tlswire.TLS10 {
		return false
	}
	switch x.exchange {
	case "kRSA":
		if !s.RSA {
			return false
		}
	case "kDHE":
		if !s.DHE {
			return false
		}
	case "kECDHE":
	default: // keys that are known to both sides, or passwords: no server here has them
		return false
	}
	switch x.authentication {
	case "aRSA":
		if !s.RSA {
			return false
		}
	case "aECDSA":
		if !s.ECDSA && (!s.EdDSA || v < tlswire.TLS12) {
			return false
		}
	case "aNULL":
	default:
		return false
	}
	forward := x.exchange == "kDHE" || x.exchange == "kECDHE"
	switch {
	case level < 1:
		return true
	case x.authentication == "aNULL", x.cipher == "eNULL", x.mac == "MD5", x.bits < levelBits[min(level, 5)]:
		return false
	case level >= 2 && x.cipher == "RC4", level >= 3 && !forward, level >= 4 && x.mac == "SHA1":
		return false
	}
	return true
}

// Accepts is the same for GnuTLS.
func (g GnuTLS) Accepts(a Allowed, s Server) []Accepted {
	var out []Accepted
	for _, v := range newestFirst(s.Versions) {
		if !slices.Contains(a.Versions, v) {
			continue
		}
		if v == tlswire.TLS13 && !a.signs13(s) {
			continue
		}
		if usable := a.without(v, s, func(suite tlswire.Suite) bool {
			return gnutlsSuites()[gnutlsParts(suite)].oldest <= v
		}); len(usable) > 0 {
			out = append(out, Accepted{v, usable})
		}
	}
	return out
}

// signatures13 are the words for the signatures that a key can make in TLS 1.3, where each belongs to one curve
// (RFC 8446, 4.2.3).
var signatures13 = map[string][]string{
	"P-256": {"ECDSA-SHA256", "ECDSA-SECP256R1-SHA256"}, "P-384": {"ECDSA-SHA384", "ECDSA-SECP384R1-SHA384"},
	"P-521": {"ECDSA-SHA512", "ECDSA-SECP521R1-SHA512"},
}

// signs13 reports whether a key of the server can sign in TLS 1.3 by the signatures that are allowed.
func (a Allowed) signs13(s Server) bool {
	has := func(prefix string) bool {
		return slices.ContainsFunc(a.Signatures, func(x string) bool { return strings.HasPrefix(x, prefix) })
	}
	if a.Signatures == nil || s.RSA && has("RSA-PSS-") || s.EdDSA && has("EDDSA-") {
		return true
	}
	return s.ECDSA && (len(s.Curves) == 0 || slices.ContainsFunc(s.Curves, func(curve string) bool {
		return slices.ContainsFunc(signatures13[curve], func(x string) bool { return slices.Contains(a.Signatures, x) })
	}))
}

// Accepts is the same for Java.
func (j Java) Accepts(a Allowed, s Server) []Accepted {
	var out []Accepted
	for _, v := range newestFirst(s.Versions) {
		usable := a.without(v, s, func(suite tlswire.Suite) bool {
			p := suite.Properties()
			return v == tlswire.TLS12 || !p.Authenticated && p.Hash != "SHA256" && p.Hash != "SHA384"
		})
		if len(usable) > 0 {
			out = append(out, Accepted{v, usable})
		}
	}
	return out
}

// without leaves out what the server has no key for, and what the version does not know.
func (a Allowed) without(v tlswire.Version, s Server, known func(tlswire.Suite) bool) []tlswire.Suite {
	if v == tlswire.TLS13 {
		if s.RSA || s.ECDSA || s.EdDSA {
			return slices.Clone(a.Suites13)
		}
		return nil
	}
	var out []tlswire.Suite
	for _, suite := range a.Suites {
		p := suite.Properties()
		has := map[string]bool{"RSA": s.RSA, "ECDSA": s.ECDSA || s.EdDSA && v == tlswire.TLS12,
			"anonymous": true}[p.Authentication]
		if has && (p.KeyExchange != "DHE" || s.DHE) && !strings.Contains(p.KeyExchange, "PSK") && known(suite) {
			out = append(out, suite)
		}
	}
	return out
}
