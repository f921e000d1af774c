package chain

import (
	"errors"
	"fmt"
	"strings"

	"nurvik/core/lifetime"
	"nurvik/core/pki"
)

// line is what twins have in common: one name, one key, one issuer.
type line struct {
	key    pki.Fingerprint
	issuer string
}

func lineOf(c *pki.Certificate) line { return line{c.PublicKey.Fingerprint(), c.Issuer.Key()} }

// twins are borrowed certificates that were looked at as issuers of one certificate, by all that matters of them but
// their dates and their signature: a CA that is issued anew with its key, year after year, has many.
type twins map[string]*pki.Certificate

// add remembers one; of several the first, which lasts longest.
func (t twins) add(c *pki.Certificate) {
	if like := likeness(c); t[like] == nil {
		t[like] = c
	}
}

// likeness is the same for certificates of one name that are alike but for serial number, dates and signature.
func likeness(c *pki.Certificate) string {
	var out strings.Builder
	fmt.Fprintf(&out, "%d %s\x00%s\x00%s", c.Version, c.PublicKey.Fingerprint(), c.Issuer.Key(),
		c.SignatureAlgorithm.Name)
	for _, x := range c.Extensions {
		fmt.Fprintf(&out, "\x00%s %t %x", x.ID, x.Critical, x.Value)
	}
	return out.String()
}

// surpassed reports whether the certificate leads to no better path than a twin that was looked at before it: one that
// is in date where this one is, is not revoked, and was signed by everybody who signed this one. Without it, a search
// that finds no good path looks at each combination of the twins of all issuers above each other.
func (s *search) surpassed(c *pki.Certificate, tried twins) bool {
	if len(tried) == 0 {
		return false
	}
	twin := tried[likeness(c)]
	if twin == nil || lifetime.ValidAt(c, s.query.At) && !lifetime.ValidAt(twin, s.query.At) {
		return false
	}
	if _, revoked := s.query.Revoked[twin.Fingerprint()]; revoked {
		return false
	}
	signed := false
	for _, issuer := range s.issuers(c) {
		key := issuer.certificate.PublicKey
		this, other := s.verifier.CheckWithin(s.query.Budget, c, key), s.verifier.CheckWithin(s.query.Budget, twin, key)
		if errors.Is(this, ErrTooCostly) || errors.Is(other, ErrTooCostly) || this == nil && other != nil {
			return false
		}
		signed = signed || other == nil
	}
	return signed
}
