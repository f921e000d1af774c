package tlswire

import (
	"cmp"
	"slices"
	"strings"
	"sync"
)

// Modern are the suites of TLS 1.3, in the order in which they are offered: one
// that no usual server has of its own, so that its answers show whose order
// counts. Those that hardly anyone has come last, and of them those that encrypt nothing.
var Modern = []Suite{0x1302, 0x1301, 0x1303, 0x1304, 0x1305, 0x1306, 0x1307, 0x00c6, 0x00c7, 0xc103, 0xc104, 0xc105,
	0xc106, 0xc0b4, 0xc0b5}

// Classic are all other registered suites, the better before the worse, so
// that a server that follows the client's order shows its best first. Among
// equals the order is again one that no usual server has of its own: long keys
// before short ones, and ChaCha20 after both.
var Classic = sync.OnceValue(func() []Suite {
	rank := map[Status]int{Recommended: 0, Legacy: 1, Weak: 2, Broken: 3}
	certificates := func(p SuiteProperties) int { // what needs no certificate of the usual kinds comes later
		if p.Authentication == "ECDSA" || p.Authentication == "RSA" {
			return 0
		}
		return 1
	}
	weight := func(p SuiteProperties) int {
		if strings.HasPrefix(p.Cipher, "ChaCha20") {
			return 1
		}
		return -p.Strength
	}
	type entry struct {
		suite Suite
		p     SuiteProperties
	}
	var list []entry
	for _, s := range Suites() {
		if s != 0 && !slices.Contains(Modern, s) && s.Properties().KeyExchange != "any" {
			list = append(list, entry{s, s.Properties()})
		}
	}
	slices.SortStableFunc(list, func(a, b entry) int {
		return cmp.Or(cmp.Compare(rank[a.p.Status], rank[b.p.Status]),
			cmp.Compare(certificates(a.p), certificates(b.p)), cmp.Compare(weight(a.p), weight(b.p)))
	})
	out := make([]Suite, len(list))
	for i, e := range list {
		out[i] = e.suite
	}
	return out
})

// Usual are the classic suites that servers in use have: with certificates of the usual kinds, and of those without
// any the few that some have by mistake. One hello has room for them, since some servers fail at 128 suites.
var Usual = sync.OnceValue(func() []Suite {
	return slices.DeleteFunc(slices.Clone(Classic()), func(s Suite) bool { return !usual(s) })
})

// Rare are the other classic suites.
var Rare = sync.OnceValue(func() []Suite { return slices.DeleteFunc(slices.Clone(Classic()), usual) })

func usual(s Suite) bool {
	p := s.Properties()
	switch p.KeyExchange + " " + p.Authentication {
	case "ECDHE ECDSA", "ECDHE RSA", "DHE RSA", "RSA RSA", "ECDH anonymous":
		return true
	}
	return false
}

// few are what nearly every server of any age has one of, for hellos that must be short.
var few = []Suite{0xc030, 0xc02f, 0xc02c, 0xc02b, 0xcca8, 0xcca9, 0x009f, 0x009e, 0xc014, 0xc013, 0xc00a, 0xc009,
	0x0039,
	0x0033, 0x009d, 0x009c, 0x0035, 0x002f, 0x000a, 0x0016, 0x0005, 0x0004, 0x0009}

// Small is a hello that offers the versions in fewer than 512 bytes.
func Small(versions ...Version) ClientHello {
	h := Ordinary(versions...)
	h.Suites = nil
	if h.Offers(TLS13) {
		h.Suites = slices.Clone(Modern[:5])
	}
	if slices.ContainsFunc(versions, func(v Version) bool { return v < TLS13 }) {
		h.Suites = append(h.Suites, few...)
	}
	h.Groups, h.Signatures = AllGroups[:10], slices.Concat(AllSignatures[:9], []SignatureScheme{0x0807, 0x0201})
	return h
}

// AllGroups are the groups that are offered, the usual first.
var AllGroups = []Group{X25519, P256, X25519MLKEM768, P384, P521, X448, SecP256r1MLKEM768, SecP384r1MLKEM1024, MLKEM768,
	MLKEM1024, 26, 27, 28, 31, 32, 33, 22, 21,
	19, 256, 257, 258, 259, 260, 41, 9, 10, 11, 12, 13, 14}

// AllSignatures are the schemes that are offered, SHA-1 at the end because servers of old certificates need it.
var AllSignatures = []SignatureScheme{0x0403, 0x0804, 0x0401, 0x0503, 0x0805, 0x0501, 0x0603, 0x0806, 0x0601, 0x0807,
	0x0808, 0x0809, 0x080a, 0x080b, 0x081a, 0x081b, 0x081c, 0x0904, 0x0905, 0x0906, 0x0203, 0x0201}

// Ordinary is a hello that offers the versions with everything that an ordinary
// client with a long memory could offer, but for rare suites. Name, randomness and shares are the caller's.
func Ordinary(versions ...Version) ClientHello {
	h := ClientHello{Versions: versions, Groups: AllGroups, Signatures: AllSignatures,
		Protocols: []string{"h2", "http/1.1"}}
	if h.Offers(TLS13) {
		h.Suites = slices.Clone(Modern)
	}
	if slices.ContainsFunc(versions, func(v Version) bool { return v < TLS13 }) {
		h.Suites = append(h.Suites, Usual()...)
	}
	return h
}
