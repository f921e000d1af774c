package chain

import (
	"cmp"
	"context"
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
	Stale        bool    // lists that have expired are taken too: what an old list says is worth telling
	Budget       *Budget // of the whole judgement; nil for one of its own
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

// Of looks the certificate up. The issuer is the certificate that certifies it
// on the path in question.
//
// A list may be signed by somebody else than the issuer, whose own path must
// then be valid, with nothing revoked on it by other lists, which are signed by
// others again. So the work is done in three steps: all certificates whose
// status counts are gathered; signers on whose path one is not known to be good
// are dropped, until that changes nothing more; and what the lists of the
// remaining signers say is the answer. A signer whose certificate only he
// himself speaks about stays.
func (l Lists) Of(c, issuer *pki.Certificate) Listing {
	if l.Budget == nil {
		l.Budget = NewBudget(context.Background())
	}
	u := &lookup{Lists: l, subjects: map[[2]pki.Fingerprint]*subject{}, signers: map[pki.Fingerprint]*signer{}}
	for _, list := range l.Lists {
		u.rolls = append(u.rolls, &roll{RevocationList: list})
	}
	slices.SortStableFunc(u.rolls, func(a, b *roll) int {
		return cmp.Compare(b.ThisUpdate.Unix(), a.ThisUpdate.Unix())
	})
	asked := u.subject(c, issuer)
	if !u.gather() || !u.drop() {
		return Listing{Problems: []string{"looking through the CRLs takes more work than any real ones need"}}
	}
	return u.listing(asked)
}

// lookup is the work on one question.
type lookup struct {
	Lists
	rolls    []*roll // the newest first
	subjects map[[2]pki.Fingerprint]*subject
	open     []*subject // whose lists have not been looked at
	signers  map[pki.Fingerprint]*signer
}

// roll is a list, with those who have signed it.
type roll struct {
	*pki.RevocationList
	asked   bool
	signers []*signer // whose key fits the signature
	names   []string  // of its distribution point
}

// subject is a certificate whose status counts, as certified by its issuer.
type subject struct {
	c, issuer *pki.Certificate
	entries   []scoped
}

// scoped is a list that speaks about a subject, and about which reasons.
type scoped struct {
	*roll
	reasons int
}

// signer has signed a list.
type signer struct {
	*pki.Certificate
	path    []*subject // what is below the anchor on its own path
	refused bool       // it has no valid path, or something on it is not known to be good
}

func (u *lookup) subject(c, issuer *pki.Certificate) *subject {
	id := [2]pki.Fingerprint{c.Fingerprint(), issuer.Fingerprint()}
	s, known := u.subjects[id]
	if !known {
		s = &subject{c: c, issuer: issuer}
		u.subjects[id] = s
		u.open = append(u.open, s)
	}
	return s
}

// gather finds every certificate whose status counts. It returns false where that costs too much.
func (u *lookup) gather() bool {
	for ; len(u.open) > 0; u.open = u.open[1:] {
		if !u.scope(u.open[0]) {
			return false
		}
		for _, x := range u.open[0].entries {
			if !u.sign(x.roll, u.open[0].issuer) {
				return false
			}
		}
	}
	return true
}

// scope finds the lists that speak about the subject, delta lists among them.
func (u *lookup) scope(s *subject) bool {
	// A list of the issuer itself that no point names is as good (6.3.3, last paragraph).
	points := append(slices.Clone(s.c.CRLDistributionPoints),
		pki.DistributionPoint{FullName: []pki.GeneralName{{Kind: pki.NameDirectory, Directory: s.c.Issuer}}})
	for _, point := range points {
		if !u.Budget.spend(1 + len(u.rolls)) {
			return false
		}
		wanted := wantedNames(s.c, point)
		for _, r := range u.rolls {
			if !inScope(s.c, point, wanted, r) {
				continue
			}
			reasons := reasonMask(point.Reasons)
			if r.Scope != nil {
				reasons &= reasonMask(r.Scope.Reasons)
			}
			s.entries = append(s.entries, scoped{r, reasons})
		}
	}
	return true
}

// sign finds who has signed the list, the subject's issuer first.
func (u *lookup) sign(r *roll, issuer *pki.Certificate) bool {
	if r.asked {
		return true
	}
	r.asked = true
	candidates := u.named(r.Issuer.Key())
	if issuer.Subject.Key() == r.Issuer.Key() {
		candidates = append([]*pki.Certificate{issuer}, candidates...)
	}
	for _, c := range candidates {
		if known := u.signers[c.Fingerprint()]; known != nil && slices.Contains(r.signers, known) {
			continue
		}
		key := u.key(c)
		if !u.Budget.spendOnce([2]pki.Fingerprint{r.Fingerprint(), key.Fingerprint()}, priceOf(key, len(r.RawTBS))) {
			return false
		}
		if u.Verifier.check(r.RevocationList, key) == nil {
			r.signers = append(r.signers, u.signer(c))
		}
	}
	return true
}

// signer looks for the signer's own path, which must lead to the anchor of the
// path in question (6.3.3 f).
func (u *lookup) signer(c *pki.Certificate) *signer {
	if known := u.signers[c.Fingerprint()]; known != nil {
		return known
	}
	s := &signer{Certificate: c}
	u.signers[c.Fingerprint()] = s
	path, _ := u.Verifier.Search(Query{Leaf: c, Given: u.Given, Known: u.Known, Store: u.Store, At: u.At,
		Budget: u.Budget})
	// An anchor is trusted by itself, whatever its dates say.
	s.refused = !path.Valid() || len(path.Certificates) > 1 && path.OutOfDate > 0 ||
		u.Anchor != nil && path.Anchor.Certificate.Fingerprint() != u.Anchor.Fingerprint()
	if !s.refused {
		for i, below := range path.Certificates[:len(path.Certificates)-1] {
			s.path = append(s.path, u.subject(below, path.Certificates[i+1]))
		}
	}
	return s
}

// drop refuses signers on whose path something is not known to be good, until
// no more are to be refused. Those of one round are refused together, so that
// their order makes no difference.
func (u *lookup) drop() bool {
	for {
		var bad []*signer
		for _, s := range u.signers {
			if s.refused {
				continue
			}
			work := 0
			for _, x := range s.path {
				work += len(x.entries)
			}
			if !u.Budget.spend(1 + work) {
				return false
			}
			if slices.ContainsFunc(s.path, func(x *subject) bool { return !u.listing(x).Good() }) {
				bad = append(bad, s)
			}
		}
		if len(bad) == 0 {
			return true
		}
		for _, s := range bad {
			s.refused = true
		}
	}
}

// listing is what the lists say of the subject, as far as their signers are not refused.
func (u *lookup) listing(s *subject) Listing {
	out := Listing{}
	done := 0
	for _, x := range s.entries {
		if x.BaseNumber != nil || x.reasons&^done == 0 {
			continue
		}
		if !u.usable(x.roll, s, &out) {
			if entry := u.revokedAllTheSame(x.roll, s); entry != nil {
				out.bound(x.RevocationList)
				out.Determined, out.Revoked = true, entry
				return out
			}
			continue
		}
		done |= x.reasons
		entry := entryOf(x.RevocationList, s.c)
		if delta := u.delta(x.roll, s, &out); delta != nil {
			out.bound(delta)
			if changed := entryOf(delta, s.c); changed != nil {
				entry = changed
			}
		}
		out.bound(x.RevocationList)
		if entry != nil && entry.Reason != pki.RemovedFrom {
			out.Determined, out.Revoked = true, entry
			return out
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

// revokedAllTheSame is the entry of a list that cannot be processed to its end, where it is signed and names the
// certificate: that it is revoked is known, though of nobody that he is not.
func (u *lookup) revokedAllTheSame(r *roll, s *subject) *pki.RevokedCertificate {
	if r.Refused == "" || len(r.UnknownCritical) > 0 {
		return nil
	}
	if entry := entryOf(r.RevocationList, s.c); entry != nil && entry.Reason != pki.RemovedFrom &&
		u.current(r, &Listing{}) && u.signed(r, s, &Listing{}) {
		return entry
	}
	return nil
}

// usable reports whether the list is current, understood and signed by someone
// who may; otherwise it notes why not.
func (u *lookup) usable(r *roll, s *subject, out *Listing) bool {
	switch {
	case len(r.UnknownCritical) > 0:
		return out.problem("the CRL of %s has the critical extension %s, which is not known", r.Issuer.Label(),
			r.UnknownCritical[0].Words())
	case r.Refused != "":
		return out.problem("the CRL of %s cannot be processed: %s", r.Issuer.Label(), r.Refused)
	}
	return u.current(r, out) && u.signed(r, s, out)
}

// problem notes why a list could not be used; of very many the first are enough.
func (l *Listing) problem(format string, args ...any) bool {
	if len(l.Problems) < 20 {
		l.Problems = append(l.Problems, fmt.Sprintf(format, args...))
	}
	return false
}

// current reports whether the list is of the time asked, or, where old ones are taken, of before.
func (u *lookup) current(r *roll, out *Listing) bool {
	switch {
	case r.ThisUpdate.After(u.At):
		out.IsStale = true
		return out.problem("the CRL of %s is of a later time", r.Issuer.Label())
	case !r.NextUpdate.IsZero() && r.NextUpdate.Before(u.At) && !u.Stale:
		out.IsStale = true
		return out.problem("the CRL of %s has expired", r.Issuer.Label())
	}
	return true
}

// signed reports whether someone who may has signed the list.
func (u *lookup) signed(r *roll, s *subject, out *Listing) bool {
	for _, signer := range r.signers {
		switch {
		case signer.HasKeyUsage && signer.KeyUsage&pki.UsageRevocationSigning == 0:
			out.problem("%s signed the CRL and may not sign CRLs", signer.Label())
		case !signer.refused, signer.Fingerprint() == s.issuer.Fingerprint():
			return true
		default:
			out.problem("%s signed the CRL and has no valid path", signer.Label())
		}
	}
	if len(r.signers) == 0 {
		out.BadSignature = true
		return out.problem("no certificate known here has signed the CRL of %s", r.Issuer.Label())
	}
	return false
}

func (u *lookup) named(key string) []*pki.Certificate {
	out := slices.Concat(u.Given.named(key), u.Known.named(key))
	for _, a := range u.Store.Named(key) {
		out = append(out, a.Certificate)
	}
	return out
}

// key is the certificate's key, with parameters from above where a DSA key has
// none of its own (RFC 5280, 6.1.4 f).
func (u *lookup) key(c *pki.Certificate) pki.PublicKey {
	key := c.PublicKey
	for range MaxPathLength {
		above := u.named(c.Issuer.Key())
		if key.DSA == nil || key.DSA.P != nil || len(above) == 0 {
			break
		}
		c = above[0]
		key = key.WithParameters(c.PublicKey)
	}
	return key
}

// delta finds the newest delta list that adds to this one (6.3.3 c).
func (u *lookup) delta(base *roll, s *subject, out *Listing) *pki.RevocationList {
	for _, x := range s.entries {
		if !x.adds(base.RevocationList) {
			continue
		}
		var not Listing
		if u.usable(x.roll, s, &not) {
			return x.RevocationList
		}
		out.IsStale = out.IsStale || not.IsStale
	}
	return nil
}
