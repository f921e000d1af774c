package judge

import (
	"errors"
	"nurvik/core/pki"
	"slices"
)

// maxSurplusChecks bounds the signature checks that are spent on certificates
// beside the path; what is left when they are used up is passed over.
const maxSurplusChecks = 2000

var errEnough = errors.New("enough was checked")

// checker checks signatures beside the path until enough was checked.
func (b *bundle) checker() func(c, issuer *pki.Certificate) error {
	checks := 0
	return func(c, issuer *pki.Certificate) error {
		if checks++; checks > maxSurplusChecks {
			return errEnough
		}
		return b.context.Verifier.CheckWithin(b.context.budget, c, issuer.PublicKey)
	}
}

// namesakes are the given certificates that have the name of the certificate's
// issuer and another key: no signature of theirs fits.
func (b *bundle) namesakes(c *pki.Certificate, check func(c, issuer *pki.Certificate) error) []*pki.Certificate {
	if c.SelfIssued() {
		return nil
	}
	var out []*pki.Certificate
	for _, g := range b.given {
		// With the right identifier it is the signature that is bad.
		if g != c && g.Subject.Key() == c.Issuer.Key() && !c.PointsTo(g) &&
			errors.Is(check(c, g), pki.ErrBadSignature) {
			out = append(out, g)
		}
	}
	return out
}

// misplaced finds where a namesake is in the place of the right issuer: the
// last certificate that was given on the way up, of which no given one is the issuer.
func (b *bundle) misplaced() (c, namesake *pki.Certificate) {
	path := b.assessed.path.Certificates
	check := b.checker()
	for i, on := range path {
		if i > 0 && !b.holds(on) {
			break
		}
		if i+1 < len(path) && (b.holds(path[i+1]) || b.assessed.path.Anchor != nil && i+2 == len(path)) {
			continue
		}
		if s := b.namesakes(on, check); len(s) > 0 && !b.context.Verifier.Certifies(b.context.budget, b.pool, on) {
			return on, s[0]
		}
	}
	return nil, nil
}

// findSiblings finds namesakes beside the right certificate.
func (b *bundle) findSiblings(check func(c, issuer *pki.Certificate) error) {
	b.siblings = map[pki.Fingerprint]bool{}
	if b.assessed.gaveUp != "" {
		return
	}
	if b.cause == pathSibling {
		b.siblings[b.namesake.Fingerprint()] = true
	}
	path := b.assessed.path.Certificates
	// What is on the path, or issued something on it, is there under a name that two share: a root may have its
	// intermediate's.
	belongs := func(s *pki.Certificate) bool {
		return slices.ContainsFunc(path, func(c *pki.Certificate) bool {
			return c.Fingerprint() == s.Fingerprint() || c.Issuer.Key() == s.Subject.Key() && check(c, s) == nil
		})
	}
	for i, on := range path[:len(path)-1] {
		if !b.holds(path[i+1]) && (b.assessed.path.Anchor == nil || i+2 < len(path)) {
			continue
		}
		for _, s := range b.namesakes(on, check) {
			if b.siblings[s.Fingerprint()] || belongs(s) {
				continue
			}
			b.siblings[s.Fingerprint()] = true
			b.beside = append(b.beside, s)
		}
	}
}

// findSurplus finds certificates that are of no use to the leaf.
func (b *bundle) findSurplus(check func(c, issuer *pki.Certificate) error) {
	if b.assessed.gaveUp != "" {
		return
	}
	seen, path := map[pki.Fingerprint]bool{}, map[pki.Fingerprint]bool{}
	for _, c := range b.assessed.path.Certificates {
		path[c.Fingerprint()] = true
	}
	issuesAny := func(issuer *pki.Certificate) bool {
		return slices.ContainsFunc(b.given, func(c *pki.Certificate) bool {
			return c.Fingerprint() != issuer.Fingerprint() && c.Issuer.Key() == issuer.Subject.Key() &&
				check(c, issuer) == nil
		})
	}
	for _, c := range b.given {
		id := c.Fingerprint()
		if !seen[id] && id != b.leaf.Fingerprint() && !path[id] && !b.roots[id] && !b.siblings[id] && !issuesAny(c) {
			if errors.Is(check(c, c), errEnough) {
				return
			}
			b.surplus = append(b.surplus, c)
		}
		seen[id] = true
	}
}
