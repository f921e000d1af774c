package compare

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"nurvik/core/facts"
	"nurvik/core/naming"
	"nurvik/core/pki"
	"nurvik/core/plain"
)

// comparison collects what is found.
type comparison struct {
	rows        []Row
	differences []Difference
	together    string // what the sides have in common, for the sentence on top
}

func (c *comparison) add(aspect Aspect, matters bool, brief, format string, args ...any) {
	c.differences = append(c.differences,
		Difference{Aspect: aspect, Matters: matters, brief: brief, Text: plain.Text(fmt.Sprintf(format, args...))})
}

func (c *comparison) row(field string, first, second []string) {
	c.rows = append(c.rows, Row{field, printable(first), printable(second), slices.Equal(first, second)})
}

func printable(list []string) []string {
	out := make([]string, len(list))
	for i, text := range list {
		out[i] = pki.Printable(text)
	}
	return out
}

// compareThings compares two certificates, requests or keys.
func compareThings(a, b *thing) Pair {
	c := &comparison{differences: []Difference{}}
	c.row("what", []string{a.what()}, []string{b.what()})
	c.rows[0].Same = c.rows[0].Same || a.kind != b.kind // things of different kinds are compared for good reason
	if a.extensions != nil && b.extensions != nil {
		c.names(a, b)
		c.subject(a, b)
	}
	c.key(a, b)
	if a.extensions != nil && b.extensions != nil {
		c.usages(a, b)
		c.others(a, b)
	}
	if a.certificate != nil && b.certificate != nil {
		c.issue(a.certificate, b.certificate)
	}
	return Pair{First: a.view(), Second: b.view(), Rows: c.rows, Differences: c.differences}
}

func (t *thing) view() Thing { return Thing{t.kind, pki.Printable(t.label), t.id} }

func (t *thing) what() string {
	switch {
	case t.request != nil:
		return "certificate request (CSR)"
	case t.certificate == nil:
		return "key"
	case t.certificate.IsCA():
		return "CA certificate"
	}
	return "certificate"
}

// names compares the alternative names. An entry that is gone is no loss where a wildcard covers it now.
func (c *comparison) names(a, b *thing) {
	has := func(list []pki.GeneralName, id string) bool {
		return slices.ContainsFunc(list, func(g pki.GeneralName) bool { return nameID(g) == id })
	}
	first, second := a.entries(), b.entries()
	var lost, added, under []string
	for _, g := range first {
		if has(second, nameID(g)) {
			continue
		}
		if r, err := naming.Parse(g.Value); err == nil && g.Kind == pki.NameDNS {
			if by, covered := r.CoveredBy(b.extensions); covered {
				under = append(under, fmt.Sprintf("%s (by %s)", g.Value, by.Value))
				continue
			}
		}
		lost = append(lost, g.Value)
	}
	for _, g := range second {
		if !has(first, nameID(g)) {
			added = append(added, g.Value)
		}
	}
	c.row("names", values(first), values(second))
	// of entries that differ in case or order alone nothing is to be told
	c.rows[len(c.rows)-1].Same = len(lost)+len(added)+len(under) == 0
	if len(lost) > 0 {
		text := "No longer covered"
		if a.request != nil && b.request == nil {
			text = "Asked for and not in the certificate"
		}
		c.add(Names, true, count(len(lost), "name")+" fewer", "%s: %s.", text, strings.Join(lost, ", "))
	}
	if len(added) > 0 {
		c.add(Names, false, count(len(added), "name")+" more", "Names added: %s.", strings.Join(added, ", "))
	}
	if len(under) > 0 {
		c.add(Names, false, "", "Covered by a wildcard now: %s.", strings.Join(under, ", "))
	}
	if common := naming.CommonNameApart(b.extensions); b.certificate != nil && common != "" &&
		common != naming.CommonNameApart(a.extensions) {
		c.add(Subject, false, "", "The common name %s of the second is no alternative name, and clients ignore it.",
			common)
	}
}

func values(list []pki.GeneralName) []string {
	var out []string
	for _, g := range list {
		if g.Kind == pki.NameDNS || g.Kind == pki.NameIP {
			out = append(out, g.Value)
		} else {
			out = append(out, g.String())
		}
	}
	return out
}

func (c *comparison) subject(a, b *thing) {
	first, second := a.subject.String(), b.subject.String()
	c.row("subject", []string{first}, []string{second})
	if a.subject.Key() == b.subject.Key() {
		c.rows[len(c.rows)-1].Same = true
		return
	}
	verb := "The subject changed"
	if a.request != nil && b.certificate != nil {
		verb = "The issuer rewrote the subject"
	}
	c.add(Subject, false, "another subject", "%s: %s → %s.", verb, orNone(first), orNone(second))
}

func orNone(text string) string {
	if text == "" {
		return "none"
	}
	return text
}

// key compares the keys, and how strong they are.
func (c *comparison) key(a, b *thing) {
	show := func(t *thing) []string {
		return []string{t.key.String(), "SHA-256 " + t.key.Match().String()[:16]}
	}
	c.row("key", show(a), show(b))
	if a.key.Match() == b.key.Match() {
		c.rows[len(c.rows)-1].Same = true
		return
	}
	switch {
	case a.kind != b.kind:
		c.add(Key, true, "", "The %s and the %s have different keys: they do not belong together.", a.what(), b.what())
	case a.kind == facts.PrivateKey:
		c.add(Key, true, "", "They are different keys.")
	case a.key.String() == b.key.String():
		c.add(Key, false, "", "A new key, %s as before.", b.key)
	default:
		c.add(Key, false, "", "A new key: %s instead of %s.", b.key, a.key)
	}
	if weaker(a.key, b.key) {
		c.add(Strength, true, "a weaker key", "The new key is weaker: %s instead of %s.", b.key, a.key)
	}
}

// issue compares what the issuer put into two certificates.
func (c *comparison) issue(a, b *pki.Certificate) {
	row := func(field, first, second string) bool {
		c.row(field, []string{first}, []string{second})
		return first == second
	}
	if a.Issuer.Key() != b.Issuer.Key() {
		c.add(Issue, false, "another issuer", "Issued by %s instead of %s.", b.Issuer.Label(), a.Issuer.Label())
	}
	row("issued by", a.Issuer.String(), b.Issuer.String())
	if !row("serial", a.SerialHex(), b.SerialHex()) {
		c.add(Issue, false, "", "A new serial number.")
	}
	from, until := row("valid from", exact(a.NotBefore), exact(b.NotBefore)), row("valid until", exact(a.NotAfter),
		exact(b.NotAfter))
	switch {
	case from && until:
	case !a.NotAfter.IsZero() && !b.NotAfter.IsZero() && b.NotAfter.Before(a.NotAfter):
		c.add(Issue, false, "ends earlier", "It ends earlier: %s instead of %s.", exact(b.NotAfter), exact(a.NotAfter))
	default:
		c.add(Issue, false, "", "New dates.")
	}
	row("signature", a.SignatureAlgorithm.Name, b.SignatureAlgorithm.Name)
	if h := hashStrength(b.SignatureAlgorithm); h < hashStrength(a.SignatureAlgorithm) {
		c.add(Strength, true, "a weaker hash", "Signed with a weaker hash: %s instead of %s.",
			b.SignatureAlgorithm.Name,
			a.SignatureAlgorithm.Name)
	}
}

func exact(t time.Time) string {
	if t.IsZero() {
		return "unreadable"
	}
	return t.UTC().Format("2006-01-02 15:04:05")
}

// keys compares the private keys that the sides have beside their certificates.
func (c *comparison) keys(first, second *Side) {
	if len(first.keys) == 0 || len(second.keys) == 0 || len(first.leaves) == 0 || len(second.leaves) == 0 {
		return // a key against a certificate is a pair
	}
	has := func(s *Side, k pki.PublicKey) bool {
		return slices.ContainsFunc(s.keys, func(other pki.PublicKey) bool { return other.Match() == k.Match() })
	}
	for _, k := range first.keys {
		if !has(second, k) && serves(first, k) {
			matters := serves(second, k) // the same certificate, and not its key
			c.add(Key, matters, "another private key", "%s does not have the private key (%s) that %s has.",
				second.Name, k,
				first.Name)
		}
	}
}

// serves reports whether the key is that of a leaf of the side.
func serves(s *Side, k pki.PublicKey) bool {
	return slices.ContainsFunc(s.leaves, func(l *pki.Certificate) bool { return l.PublicKey.Match() == k.Match() })
}
