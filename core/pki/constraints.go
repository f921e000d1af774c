package pki

import "golang.org/x/crypto/cryptobyte"

func (d *decoder) nameConstraints(x Extension, c *Certificate) {
	const field, section = "nameConstraints", "RFC 5280 section 4.2.1.10"
	n := &NameConstraints{}
	c.NameConstraints = n
	body, ok := d.body(x, field)
	if !ok {
		n.bar("", d.refused)
		return
	}
	s := cryptobyte.String(body)
	for i, into := range []*[]GeneralName{&n.Permitted, &n.Excluded} {
		if el, ok := d.optional(&s, contextTag(byte(i), true), field); ok {
			for inner := cryptobyte.String(el.content); len(inner) > 0; {
				subtree, ok := d.take(&inner, tagSequence, field)
				if !ok {
					d.refuse(inner, field, section, "a subtree is malformed; those after it are not read")
					n.bar("", d.refused)
					break
				}
				d.subtree(subtree, n, into)
			}
		}
	}
	if d.finish(s, field); len(s) > 0 {
		n.bar("", d.refused)
	}
}

// subtree decodes one base; of what cannot be processed the whole kind is barred.
func (d *decoder) subtree(el element, n *NameConstraints, into *[]GeneralName) {
	const field, section = "nameConstraints", "RFC 5280 section 4.2.1.10"
	before := d.refused
	d.refused = ""
	defer func() { d.refused = orElse(before, d.refused) }()
	inner := cryptobyte.String(el.content)
	base, ok := d.next(&inner, field)
	if !ok {
		d.refuse(el.full, field, section, "a subtree has no base")
		n.bar("", d.refused)
		return
	}
	g, ok := d.generalName(base, field, true)
	if !ok {
		n.bar("", d.refused)
		return
	}
	for _, tag := range []byte{0, 1} { // minimum, whose default is 0, and maximum: neither is used (4.2.1.10)
		bound, there := d.optional(&inner, contextTag(tag, false), field)
		if zero := len(bound.content) == 1 && bound.content[0] == 0; there && (tag == 1 || !zero) {
			d.refuse(bound.full, field, section, "a subtree has a minimum or maximum, which no client processes")
		}
	}
	d.finish(inner, field)
	if d.refused != "" {
		n.bar(g.Kind, d.refused)
		return
	}
	*into = append(*into, g)
}

// features decodes the TLS features that the certificate demands (RFC 7633, 4.1): of those the stapled response is
// known.
func (d *decoder) features(x Extension, c *Certificate) {
	const field, stapled = "tlsFeature", 5 // status_request of the registry of TLS extensions
	body, ok := d.body(x, field)
	if !ok {
		return
	}
	for s := cryptobyte.String(body); len(s) > 0; {
		el, ok := d.take(&s, tagInteger, field)
		if !ok {
			d.refuse(s, field, "RFC 7633 section 4.1", "a feature is no number; those after it are not read")
			return
		}
		if n, ok := d.smallInt(el, field); ok && n == stapled {
			c.MustStaple = true
		}
	}
}
