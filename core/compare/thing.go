package compare

import (
	"strings"

	"nurvik/core/facts"
	"nurvik/core/pki"
)

// thing is a certificate, a request or a key.
type thing struct {
	kind       facts.ItemKind
	id         pki.Fingerprint
	label      string
	subject    pki.Name
	key        pki.PublicKey
	extensions *pki.Certificate // of a request what is asked for; nil of a key

	certificate *pki.Certificate // nil of others
	request     *pki.Request     // nil of others
}

func ofCertificate(c *pki.Certificate) thing {
	return thing{kind: facts.Certificate, id: c.Fingerprint(), label: c.Label(), subject: c.Subject, key: c.PublicKey,
		extensions: c, certificate: c}
}

// entries are the alternative names, each once, in the form in which they are compared.
func (t *thing) entries() []pki.GeneralName {
	if t.extensions == nil {
		return nil
	}
	var out []pki.GeneralName
	seen := map[string]bool{}
	for _, g := range t.extensions.AltNames {
		if id := nameID(g); !seen[id] {
			seen[id] = true
			out = append(out, g)
		}
	}
	return out
}

// nameID is what two entries have in common that mean the same.
func nameID(g pki.GeneralName) string {
	switch g.Kind {
	case pki.NameDNS:
		return g.String()[:len(g.Kind)+1] + strings.ToLower(g.Value)
	case pki.NameIP:
		if g.Address.IsValid() {
			return string(g.Kind) + ":" + g.Address.String()
		}
	}
	return g.String()
}

// match pairs the things of two sides: the same thing, else the same key, else
// the most names in common, else the only one of both sides.
func match(first, second []thing) (pairs [][2]thing, onlyFirst, onlySecond []thing) {
	taken := make([]bool, len(second))
	with := make([]int, len(first))
	for i := range with {
		with[i] = -1
	}
	for _, marks := range []func(t *thing) []string{theThing, theKey, theNames} {
		index := map[string][]int{}
		for n := range second {
			for _, mark := range marks(&second[n]) {
				index[mark] = append(index[mark], n)
			}
		}
		for i := range first {
			if with[i] >= 0 {
				continue
			}
			best, common := -1, map[int]int{}
			for _, mark := range marks(&first[i]) {
				for _, n := range index[mark] {
					if common[n]++; !taken[n] && (best < 0 || common[n] > common[best]) {
						best = n
					}
				}
			}
			if best >= 0 {
				with[i], taken[best] = best, true
			}
		}
	}
	if len(first) == 1 && len(second) == 1 {
		with[0], taken[0] = 0, true
	}
	for i := range first {
		if with[i] < 0 {
			onlyFirst = append(onlyFirst, first[i])
		} else {
			pairs = append(pairs, [2]thing{first[i], second[with[i]]})
		}
	}
	for n := range second {
		if !taken[n] {
			onlySecond = append(onlySecond, second[n])
		}
	}
	return pairs, onlyFirst, onlySecond
}

func theThing(t *thing) []string { return []string{t.id.String()} }

func theKey(t *thing) []string { return []string{t.key.Match().String()} }

// theNames are the entries, and the label of what is no key.
func theNames(t *thing) []string {
	var out []string
	for _, g := range t.entries() {
		out = append(out, nameID(g))
	}
	if t.kind != facts.PrivateKey {
		out = append(out, "label:"+strings.ToLower(t.label))
	}
	return out
}
