package tlswire

import (
	"cmp"
	"slices"
	"strings"
	"sync"
)

// Modern are the suites of TLS 1.3, in the order in which they are offered: one
// that no usual server has of its own, so that its answers show whose order counts.
var Modern = []Suite{0x1302, 0x1301, 0x1303, 0x1304, 0x1305, 0x1306, 0x1307}

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

// AllGroups are the groups that are offered, the usual first.
var AllGroups = []Group{X25519, P256, X25519MLKEM768, P384, P521, X448, SecP256r1MLKEM768, SecP384r1MLKEM1024, MLKEM768,
	MLKEM1024, 26, 27, 28, 31, 32, 33, 22, 21,
	19, 256, 257, 258, 259, 260, 41, 9, 10, 11, 12, 13, 14}

// AllSignatures are the schemes that are offered, SHA-1 at the end because servers of old certificates need it.
var AllSignatures = []SignatureScheme{0x0403, 0x0804, 0x0401, 0x0503, 0x0805, 0x0501, 0x0603, 0x0806, 0x0601, 0x0807,
	0x0808, 0x0809, 0x080a, 0x080b, 0x081a, 0x081b, 0x081c, 0x0904, 0x0905, 0x0906, 0x0203, 0x0201}

// Ordinary is a hello that offers the versions with everything that an ordinary
// client with a long memory could offer. Name, randomness and shares are the caller's.
func Ordinary(versions ...Version) ClientHello {
	h := ClientHello{Versions: versions, Groups: AllGroups, Signatures: AllSignatures,
		Protocols: []string{"h2", "http/1.1"}}
	if h.Offers(TLS13) {
		h.Suites = slices.Clone(Modern)
	}
	if slices.ContainsFunc(versions, func(v Version) bool { return v < TLS13 }) {
		h.Suites = append(h.Suites, Classic()...)
	}
	return h
}
