package judge

import (
	"nurvik/core/chain"
	"nurvik/core/pki"
)

// checkSurplus notes what was sent twice, and what has nothing to do with the
// leaf: it certifies none of the others, and no client can use it.
func checkSurplus(b *bundle) {
	if b.assessed.gaveUp {
		return
	}
	seen, path := map[pki.Fingerprint]int{}, map[pki.Fingerprint]bool{}
	for _, c := range b.assessed.path.Certificates {
		path[c.Fingerprint()] = true
	}
	for _, c := range b.given {
		seen[c.Fingerprint()]++
		if n := seen[c.Fingerprint()]; n > 1 {
			if n == 2 && !b.file { // in files the repeated block is told
				b.add(surplus("chain.duplicate", c, "The certificate %q is sent more than once."))
			}
			continue
		}
		if c.Fingerprint() == b.leaf.Fingerprint() || path[c.Fingerprint()] || b.context.Verifier.RoleOf(c) == chain.Root || b.certifiesAny(c) {
			continue
		}
		b.add(surplus("chain.unrelated", c, "The certificate %q has nothing to do with the others: it has issued none of them."))
	}
}

// certifiesAny reports whether the certificate has issued another one of the bundle, by name and signature.
func (b *bundle) certifiesAny(issuer *pki.Certificate) bool {
	for _, c := range b.given {
		if c.Fingerprint() != issuer.Fingerprint() && c.Issuer.Key() == issuer.Subject.Key() && b.context.Verifier.Check(c, issuer.PublicKey) == nil {
			return true
		}
	}
	return false
}

func surplus(code string, c *pki.Certificate, message string) Finding {
	f := found(code, c.Fingerprint().String(), c.Label(), message, c.Label())
	f.Evidence = certificateEvidence(c)
	return f
}

// checkOutlived looks for intermediates of the best path that end before the leaf does.
func checkOutlived(b *bundle) {
	path := b.assessed.path
	if path.Anchor == nil || b.leaf.NotAfter.IsZero() {
		return
	}
	for _, c := range path.Below()[1:] {
		if c.NotAfter.IsZero() || !c.NotAfter.Before(b.leaf.NotAfter) || b.context.At.After(c.NotAfter) { // what is over is told as expired
			continue
		}
		f := found("chain.expires-before-leaf", c.Fingerprint().String(), c.Label(), "The intermediate %q ends on %s, before %s, which ends on %s.", c.Label(), day(c.NotAfter), b.leaf.Label(), day(b.leaf.NotAfter))
		f.Evidence = certificateEvidence(c)
		b.add(f)
	}
}
