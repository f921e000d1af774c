package chain

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"time"

	"nurvik/core/pki"
	"nurvik/core/trust"
)

// Lists tells whether certificates are revoked by the lists at hand (RFC 5280,
// section 6.3), complete, partial, indirect and delta lists.
type Lists struct {
	Verifier     *Verifier
	Lists        []*pki.RevocationList
	Given, Known *Pool // where the certificates of list issuers are looked for
	Store        *trust.Store
	Anchor       *pki.Certificate // of the path in question: the signers of lists must lead to it too; nil for any
	At           time.Time
	Stale        bool // lists that have expired are taken too: what an old list says is worth telling
}

// Listing is what the lists say of a certificate.
type Listing struct {
	Determined            bool // the lists that could be used cover every reason
	Revoked               *pki.RevokedCertificate
	ThisUpdate, Expires   time.Time // of the oldest list that was used, and the first to expire; zero when open
	Problems              []string  // why lists for the certificate could not be used
	BadSignature, IsStale bool      // what kind of problems these are
}

// Good reports whether the certificate is known not to be revoked.
func (l Listing) Good() bool { return l.Determined && l.Revoked == nil }

// reasonBits are the reasons that lists can be about: bits 1 to 8 of RFC 5280, 4.2.1.13.
const reasonBits = 0x1fe

func reasonMask(bits []byte) int {
	if len(bits) == 0 { // absent: every reason
		return reasonBits
	}
	mask := 0
	for i := range (len(bits) - 1) * 8 {
		if i < 9 && bits[1+i/8]&(0x80>>(i%8)) != 0 {
			mask |= 1 << i
		}
	}
	return mask & reasonBits
}

// Of looks the certificate up. The issuer is the certificate that certifies it
// on the path in question.
func (l Lists) Of(c, issuer *pki.Certificate) Listing {
	return l.of(c, issuer, nil)
}

// of guards against responsibility that goes in circles: above are the
// certificates whose status is being looked for already.
func (l Lists) of(c, issuer *pki.Certificate, above []*pki.Certificate) Listing {
	out := Listing{}
	done := 0
	points := slices.Clone(c.CRLDistributionPoints)
	// A list of the issuer itself that no point names is as good (6.3.3, last paragraph).
	points = append(points, pki.DistributionPoint{FullName: []pki.GeneralName{{Kind: pki.NameDirectory,
		Directory: c.Issuer}}})
	for _, point := range points {
		for _, list := range l.newestFirst() {
			if list.BaseNumber != nil || done == reasonBits {
				continue
			}
			scope := reasonMask(point.Reasons)
			if list.Scope != nil {
				scope &= reasonMask(list.Scope.Reasons)
			}
			if !inScope(c, point, list) || scope&^done == 0 {
				continue
			}
			if !l.usable(list, c, issuer, above, &out) {
				if entry := l.revokedAllTheSame(list, c, issuer, above); entry != nil {
					out.bound(list)
					out.Determined, out.Revoked = true, entry
					return out
				}
				continue
			}
			done |= scope
			entry := l.find(list, c)
			if delta := l.delta(list, c, issuer, above); delta != nil {
				out.bound(delta)
				if changed := l.find(delta, c); changed != nil {
					entry = changed
				}
			}
			out.bound(list)
			if entry != nil && entry.Reason != pki.RemovedFrom {
				out.Determined, out.Revoked = true, entry
				return out
			}
		}
	}
	out.Determined = done == reasonBits
	return out
}

// bound narrows the time for which the answer holds.
func (l *Listing) bound(list *pki.RevocationList) {
	if l.ThisUpdate.IsZero() || list.ThisUpdate.Before(l.ThisUpdate) {
		l.ThisUpdate = list.ThisUpdate
	}
	if !list.NextUpdate.IsZero() && (l.Expires.IsZero() || list.NextUpdate.Before(l.Expires)) {
		l.Expires = list.NextUpdate
	}
}

func (l Lists) newestFirst() []*pki.RevocationList {
	return slices.SortedStableFunc(slices.Values(l.Lists), func(a, b *pki.RevocationList) int {
		return cmp.Compare(b.ThisUpdate.Unix(), a.ThisUpdate.Unix())
	})
}

// inScope decides whether the list speaks about the certificate as found at
// the distribution point (6.3.3 b).
func inScope(c *pki.Certificate, point pki.DistributionPoint, list *pki.RevocationList) bool {
	if len(point.Issuer) > 0 {
		if list.Scope == nil || !list.Scope.Indirect ||
			!slices.ContainsFunc(point.Issuer, func(g pki.GeneralName) bool {
				return g.Kind == pki.NameDirectory && g.Directory.Key() == list.Issuer.Key()
			}) {
			return false
		}
	} else if list.Issuer.Key() != c.Issuer.Key() {
		return false
	}
	s := list.Scope
	if s == nil {
		return true
	}
	if s.OnlyAttributes || s.OnlyUsers && c.IsCA() || s.OnlyAuthorities && !c.IsCA() {
		return false
	}
	names := pointNames(s.Point, []pki.Name{list.Issuer})
	if len(names) == 0 {
		return true
	}
	issuers := []pki.Name{c.Issuer}
	if len(point.Issuer) > 0 {
		issuers = nil
		for _, g := range point.Issuer {
			issuers = append(issuers, g.Directory)
		}
	}
	wanted := pointNames(point, issuers)
	if len(wanted) == 0 { // a point without a name of its own is named by its issuer
		for _, n := range issuers {
			wanted = append(wanted, directory(n))
		}
	}
	return slices.ContainsFunc(names, func(name string) bool { return slices.Contains(wanted, name) })
}

func directory(n pki.Name) string { return string(pki.NameDirectory) + ":" + n.Key() }

// pointNames are the names of a distribution point in a form that can be compared.
func pointNames(p pki.DistributionPoint, issuers []pki.Name) []string {
	var out []string
	for _, g := range p.FullName {
		if g.Kind == pki.NameDirectory {
			out = append(out, directory(g.Directory))
		} else {
			out = append(out, g.String())
		}
	}
	if len(p.Relative) > 0 {
		for _, issuer := range issuers {
			out = append(out, directory(issuer.Below(p.Relative)))
		}
	}
	return out
}

// find looks for the certificate in the list. In an indirect list each entry
// belongs to the issuer named last (5.3.3).
func (l Lists) find(list *pki.RevocationList, c *pki.Certificate) *pki.RevokedCertificate {
	for _, entry := range list.Find(c.RawSerial) {
		issuer := list.Issuer
		if entry.Issuer != nil {
			issuer = *entry.Issuer
		}
		if issuer.Key() == c.Issuer.Key() {
			return entry
		}
	}
	return nil
}

// revokedAllTheSame is the entry of a list that cannot be processed to its end, where it is signed and names the
// certificate: that it is revoked is known, though of nobody that he is not.
func (l Lists) revokedAllTheSame(list *pki.RevocationList, c, issuer *pki.Certificate,
	above []*pki.Certificate) *pki.RevokedCertificate {
	if list.Refused == "" || list.BaseNumber != nil {
		return nil
	}
	whole := *list
	whole.Refused = ""
	if entry := l.find(list, c); entry != nil && entry.Reason != pki.RemovedFrom &&
		l.usable(&whole, c, issuer, above, &Listing{}) {
		return entry
	}
	return nil
}

// usable reports whether the list is current, understood and signed by someone
// who may; otherwise it notes why not.
func (l Lists) usable(list *pki.RevocationList, c, issuer *pki.Certificate, above []*pki.Certificate,
	out *Listing) bool {
	problem := func(format string, args ...any) bool {
		out.Problems = append(out.Problems, fmt.Sprintf(format, args...))
		return false
	}
	switch {
	case len(list.UnknownCritical) > 0:
		return problem("the list of %s has the critical extension %s, which is not known", list.Issuer.Label(),
			list.UnknownCritical[0].Words())
	case list.Refused != "":
		return problem("the CRL of %s cannot be processed: %s", list.Issuer.Label(), list.Refused)
	case list.ThisUpdate.After(l.At):
		out.IsStale = true
		return problem("the list of %s is of a later time", list.Issuer.Label())
	case !list.NextUpdate.IsZero() && list.NextUpdate.Before(l.At) && !l.Stale:
		out.IsStale = true
		return problem("the list of %s has expired", list.Issuer.Label())
	}
	signed := false
	for _, signer := range l.signers(list, issuer) {
		if l.Verifier.check(list, l.key(signer, 0)) != nil {
			continue
		}
		signed = true
		if signer.HasKeyUsage && signer.KeyUsage&pki.UsageRevocationSigning == 0 {
			problem("%s signed the list and may not sign lists", signer.Label())
			continue
		}
		if signer == issuer || l.accepted(signer, c, above) {
			return true
		}
		problem("%s signed the list and has no valid path", signer.Label())
	}
	if !signed {
		out.BadSignature = true
		return problem("no certificate known here has signed the CRL of %s", list.Issuer.Label())
	}
	return false
}

// signers are the certificates that may have signed the list, the certificate's issuer first.
func (l Lists) signers(list *pki.RevocationList, issuer *pki.Certificate) []*pki.Certificate {
	var out []*pki.Certificate
	if issuer.Subject.Key() == list.Issuer.Key() {
		out = append(out, issuer)
	}
	return append(out, l.named(list.Issuer.Key())...)
}

func (l Lists) named(key string) []*pki.Certificate {
	out := slices.Concat(l.Given.named(key), l.Known.named(key))
	for _, a := range l.Store.Named(key) {
		out = append(out, a.Certificate)
	}
	return out
}

// accepted reports whether the signer has a valid path of its own on which
// nothing is revoked (6.3.3 f). A signer whose own certificate is covered by
// the list that it signs cannot be asked about elsewhere: there the list itself tells.
func (l Lists) accepted(signer, c *pki.Certificate, above []*pki.Certificate) bool {
	if slices.Contains(above, signer) {
		return true
	}
	if _, ok := l.Store.Holds(signer); ok {
		return l.Anchor == nil || signer.Fingerprint() == l.Anchor.Fingerprint()
	}
	path, _ := l.Verifier.Search(Query{Leaf: signer, Given: l.Given, Known: l.Known, Store: l.Store, At: l.At})
	if !path.Valid() || path.OutOfDate > 0 || len(above) > maxPathLength ||
		l.Anchor != nil && path.Anchor.Certificate.Fingerprint() != l.Anchor.Fingerprint() {
		return false
	}
	above = append(slices.Clone(above), c)
	for i, below := range path.Certificates[:len(path.Certificates)-1] {
		if slices.Contains(above, below) {
			continue
		}
		above = append(above, below)
		if !l.of(below, path.Certificates[i+1], above).Good() {
			return false
		}
	}
	return true
}

// key is the certificate's key, with parameters from above where a DSA key has
// none of its own (RFC 5280, 6.1.4 f).
func (l Lists) key(c *pki.Certificate, depth int) pki.PublicKey {
	key := c.PublicKey
	if key.DSA == nil || key.DSA.P != nil || depth == maxPathLength {
		return key
	}
	for _, issuer := range l.named(c.Issuer.Key()) {
		if above := l.key(issuer, depth+1); above.DSA != nil && above.DSA.P != nil {
			return key.WithParameters(above)
		}
	}
	return key
}

// delta finds the newest delta list that adds to this one (6.3.3 c).
func (l Lists) delta(base *pki.RevocationList, c, issuer *pki.Certificate,
	above []*pki.Certificate) *pki.RevocationList {
	for _, d := range l.newestFirst() {
		if d.BaseNumber == nil || d.Number == nil || base.Number == nil || d.Issuer.Key() != base.Issuer.Key() {
			continue
		}
		if d.BaseNumber.Cmp(base.Number) > 0 || d.Number.Cmp(base.Number) <= 0 ||
			!bytes.Equal(d.AuthorityKeyID, base.AuthorityKeyID) || !sameScope(d, base) {
			continue
		}
		if l.usable(d, c, issuer, above, &Listing{}) {
			return d
		}
	}
	return nil
}

func sameScope(a, b *pki.RevocationList) bool {
	if a.Scope == nil || b.Scope == nil {
		return a.Scope == b.Scope
	}
	return bytes.Equal(a.Scope.Raw, b.Scope.Raw)
}
