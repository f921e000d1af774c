package judge

import (
	"bytes"
	"errors"
	"fmt"
	"slices"

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
		if c.Fingerprint() == b.leaf.Fingerprint() || path[c.Fingerprint()] || b.isRoot(c) || b.certifiesAny(c) || b.sibling[c.Fingerprint()] {
			continue
		}
		if b.checks > maxSurplusChecks {
			return
		}
		b.add(surplus("chain.unrelated", c, "The certificate %q has nothing to do with the others: it has issued none of them."))
	}
}

// siblings are the given certificates that have the name of the certificate's
// issuer and another key: no signature of theirs fits.
func (b *bundle) siblings(c *pki.Certificate) []*pki.Certificate {
	if c.SelfIssued() {
		return nil
	}
	var out []*pki.Certificate
	for _, g := range b.given {
		if g != c && g.Subject.Key() == c.Issuer.Key() && errors.Is(b.check(c, g), pki.ErrBadSignature) &&
			(len(c.AuthorityKeyID) == 0 || !bytes.Equal(c.AuthorityKeyID, g.SubjectKeyID)) { // with the right identifier it is the signature that is bad
			out = append(out, g)
		}
	}
	return out
}

// misplaced finds where a sibling stands in the place of the right issuer: the
// last certificate that was given on the way up, of which no given one is the issuer.
func (b *bundle) misplaced() (c, sibling *pki.Certificate) {
	path := b.assessed.path.Certificates
	for i, on := range path {
		if i > 0 && !b.holds(on) {
			break
		}
		if i+1 < len(path) && (b.holds(path[i+1]) || b.assessed.path.Anchor != nil && i+2 == len(path)) {
			continue
		}
		if s := b.siblings(on); len(s) > 0 && !b.context.Verifier.Certifies(b.pool, on) {
			return on, s[0]
		}
	}
	return nil, nil
}

// wrongSibling says which certificate would fit, where one is known.
func (b *bundle) wrongSibling(c, sibling *pki.Certificate) Finding {
	f := found("chain.wrong-sibling", sibling.Fingerprint().String(), sibling.Label(), "The certificate %q that was given has the right name and the wrong key: it did not issue %s.", sibling.Label(), c.Label())
	f.Evidence = certificateEvidence(sibling)
	f.Evidence.Key = sibling.PublicKey.String()
	right := b.assessed.path.Certificates
	for i, on := range right {
		if on == c && i+1 < len(right) {
			fit := right[i+1]
			f.Evidence.MissingPEM = append(f.Evidence.MissingPEM, fit.PEM())
			f.Evidence.Order = labels(b.assessed.path.Below())
			f.Remedy = fmt.Sprintf("Put %q with the key %s and the serial number %s in its place (SHA-256 %s), then reload the server. It comes along as PEM, in the console and with -o json.", fit.Label(), fit.PublicKey, fit.SerialHex(), fit.Fingerprint())
			return f
		}
	}
	if id := c.AuthorityKeyID; len(id) > 0 {
		f.Remedy = fmt.Sprintf("Put the certificate of %q with the key identifier %x in its place; the issuer of %s has it, where it was ordered. Then reload the server.", c.Issuer.Label(), id, c.Label())
	}
	return f
}

// checkSibling notes siblings that stand beside the right certificate.
func checkSibling(b *bundle) {
	if b.assessed.gaveUp {
		return
	}
	path := b.assessed.path.Certificates
	told := map[pki.Fingerprint]bool{}
	for _, f := range b.findings {
		if f.Code == "chain.wrong-sibling" {
			told[*f.Evidence.Certificate] = true
		}
	}
	for i, on := range path[:len(path)-1] {
		if !b.holds(path[i+1]) && (b.assessed.path.Anchor == nil || i+2 < len(path)) {
			continue
		}
		for _, s := range b.siblings(on) {
			if told[s.Fingerprint()] || slices.Contains(path, s) {
				continue
			}
			told[s.Fingerprint()] = true
			f := surplus("chain.wrong-sibling", s, "The certificate %q has the name of an issuer of this chain and another key; the right one stands beside it.")
			f.Severity = Note
			f.Remedy = fmt.Sprintf("Remove the certificate %q with the serial number %s.", s.Label(), s.SerialHex())
			b.add(f)
		}
	}
	b.sibling = told
}

// maxSurplusChecks bounds the signature checks that are spent on certificates
// beside the path; what is left when they are used up is passed over.
const maxSurplusChecks = 2000

var errEnough = errors.New("enough was checked")

func (b *bundle) check(c, issuer *pki.Certificate) error {
	if b.checks++; b.checks > maxSurplusChecks {
		return errEnough
	}
	return b.context.Verifier.Check(c, issuer.PublicKey)
}

// isRoot reports whether the certificate is an authority that certifies itself.
func (b *bundle) isRoot(c *pki.Certificate) bool {
	return c.IsCA() && c.SelfIssued() && b.check(c, c) == nil
}

// certifiesAny reports whether the certificate has issued another one of the bundle, by name and signature.
func (b *bundle) certifiesAny(issuer *pki.Certificate) bool {
	for _, c := range b.given {
		if c.Fingerprint() != issuer.Fingerprint() && c.Issuer.Key() == issuer.Subject.Key() && b.check(c, issuer) == nil {
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
