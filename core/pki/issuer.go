package pki

import (
	"bytes"
	"slices"

	"golang.org/x/crypto/cryptobyte"
)

// PointsTo reports whether the authority key identifier names this very
// issuer: by its key, or, where no key is named, by the name of its own issuer
// and its serial number (RFC 5280, 4.2.1.1).
func (c *Certificate) PointsTo(issuer *Certificate) bool {
	if len(c.AuthorityKeyID) > 0 {
		return bytes.Equal(c.AuthorityKeyID, issuer.SubjectKeyID)
	}
	return len(c.AuthoritySerial) > 0 && bytes.Equal(c.AuthoritySerial, issuer.RawSerial) &&
		slices.ContainsFunc(c.AuthorityIssuer, func(g GeneralName) bool {
			return g.Kind == NameDirectory && g.Directory.Key() == issuer.Issuer.Key()
		})
}

// authorityKeyID decodes the extension that names the issuer's key.
func (d *decoder) authorityKeyID(x Extension, c *Certificate) {
	const field = "authorityKeyIdentifier"
	body, ok := d.body(x, field)
	if !ok {
		return
	}
	s := cryptobyte.String(body)
	if el, ok := d.optional(&s, contextTag(0, false), field); ok {
		c.AuthorityKeyID = el.content
	}
	if el, ok := d.optional(&s, contextTag(1, true), field); ok {
		c.AuthorityIssuer = d.generalNames(el.content, field, false)
	}
	if el, ok := d.optional(&s, contextTag(2, false), field); ok {
		c.AuthoritySerial = el.content
	}
	d.finish(s, field)
}
