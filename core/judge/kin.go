package judge

import (
	"slices"

	"nurvik/core/pki"
)

// maxKin is how many authorities of a file are given to one of several chains:
// far more than a chain has, few enough for tens of thousands of leaves.
const maxKin = 200

// kin deals the authorities of a file with several leaves out to their chains:
// to each those above it by name. What is above no leaf is dealt to the first.
type kin struct {
	given   []*pki.Certificate
	leaf    map[pki.Fingerprint][]int // the places of each leaf, which may be there more than once
	named   map[string][]int          // the authorities' places, by subject
	above   map[string][]int          // what is above an issuer, by its name
	strange []int                     // what is above nobody; dealt out once
}

func newKin(given []*pki.Certificate, isLeaf map[pki.Fingerprint]bool) *kin {
	k := &kin{given: given, leaf: map[pki.Fingerprint][]int{}, named: map[string][]int{}, above: map[string][]int{}}
	above := map[string]bool{}
	var next []string
	climb := func(c *pki.Certificate) {
		if name := c.Issuer.Key(); !above[name] {
			above[name] = true
			next = append(next, name)
		}
	}
	for i, c := range given {
		if id := c.Fingerprint(); isLeaf[id] {
			k.leaf[id] = append(k.leaf[id], i)
			climb(c)
		} else {
			k.named[c.Subject.Key()] = append(k.named[c.Subject.Key()], i)
		}
	}
	for ; len(next) > 0; next = next[1:] {
		for _, i := range k.named[next[0]] {
			climb(given[i])
		}
	}
	for i, c := range given {
		if !isLeaf[c.Fingerprint()] && !above[c.Subject.Key()] {
			k.strange = append(k.strange, i)
		}
	}
	return k
}

// of is what the file gives to the chain of a leaf, in the order of the file.
func (k *kin) of(leaf *pki.Certificate) []*pki.Certificate {
	places := slices.Concat(k.leaf[leaf.Fingerprint()], k.strange, k.from(leaf.Issuer.Key()))
	k.strange = nil
	slices.Sort(places)
	out := make([]*pki.Certificate, 0, len(places))
	for _, i := range slices.Compact(places) {
		out = append(out, k.given[i])
	}
	return out
}

// from are the authorities of the name and those above them.
func (k *kin) from(name string) []int {
	if known, ok := k.above[name]; ok {
		return known
	}
	var out []int
	seen := map[string]bool{name: true}
	for next := []string{name}; len(next) > 0 && len(out) < maxKin; next = next[1:] {
		same := k.named[next[0]]
		for _, i := range same[:min(len(same), maxKin-len(out))] {
			out = append(out, i)
			if up := k.given[i].Issuer.Key(); !seen[up] {
				seen[up] = true
				next = append(next, up)
			}
		}
	}
	k.above[name] = out
	return out
}
