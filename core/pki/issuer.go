package pki

import (
	"bytes"
	"slices"
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
