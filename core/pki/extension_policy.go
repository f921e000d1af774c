package pki

import "golang.org/x/crypto/cryptobyte"

// AnyPolicy stands for every certificate policy (RFC 5280, 4.2.1.4).
const AnyPolicy OID = "2.5.29.32.0"

// PolicyMapping says that a policy of the issuer counts as one of the subject (RFC 5280, 4.2.1.5).
type PolicyMapping struct{ Issuer, Subject OID }

// PolicyConstraints are counts of certificates after which a rule holds; nil where it does not (RFC
// 5280, 4.2.1.11 and 4.2.1.14).
type PolicyConstraints struct {
	RequireExplicit *int
	InhibitMapping  *int
	InhibitAny      *int
}

func (d *decoder) policyMappings(x Extension, c *Certificate) {
	const field, section = "policyMappings", "RFC 5280 section 4.2.1.5"
	body, ok := d.body(x, field)
	if !ok {
		return
	}
	d.sequences(body, field, section, func(el element) {
		inner := cryptobyte.String(el.content)
		from, okFrom := d.take(&inner, tagOID, field)
		to, okTo := d.take(&inner, tagOID, field)
		if !okFrom || !okTo {
			d.refuse(el.full, field, section, "a mapping is malformed")
			return
		}
		c.PolicyMappings = append(c.PolicyMappings, PolicyMapping{d.oid(from, field), d.oid(to, field)})
	})
}

func (d *decoder) policyConstraints(x Extension, c *Certificate) {
	const field = "policyConstraints"
	body, ok := d.body(x, field)
	if !ok {
		return
	}
	s := cryptobyte.String(body)
	for i, into := range []**int{&c.PolicyConstraints.RequireExplicit, &c.PolicyConstraints.InhibitMapping} {
		if el, ok := d.optional(&s, contextTag(byte(i), false), field); ok {
			if n, ok := d.smallInt(el, field); ok {
				*into = &n
			}
		}
	}
	d.finish(s, field)
}

func (d *decoder) inhibitAnyPolicy(x Extension, c *Certificate) {
	const field = "inhibitAnyPolicy"
	s := cryptobyte.String(x.Value)
	el, ok := d.take(&s, tagInteger, field)
	if !ok {
		d.refuse(x.Value, field, "RFC 5280 section 4.2.1.14", "the number is malformed")
		return
	}
	d.finish(s, field)
	if n, ok := d.smallInt(el, field); ok {
		c.PolicyConstraints.InhibitAny = &n
	}
}
