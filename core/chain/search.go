package chain

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"nurvik/core/lifetime"
	"nurvik/core/pki"
	"nurvik/core/trust"
)

// Limits of one search. Real estates have paths of two to five certificates
// and a handful of candidates for each place.
const (
	MaxPathLength = 30   // certificates in a path, anchor included
	MaxChecks     = 2000 // candidates looked at, over the whole search
	maxPaths      = 50   // paths that are kept of those that were found
)

// Query says what to search.
type Query struct {
	Leaf  *pki.Certificate
	Given *Pool // what was served, or stands in the file
	Known *Pool // what else is known and may be borrowed; nil for nothing
	Store *trust.Store
	At    time.Time

	Usage    pki.OID // what the leaf is to be used for; "" for anything
	Policies PolicyInputs
	Revoked  map[pki.Fingerprint]string // certificates that are revoked, with what is known of it

	Distrusted map[pki.Fingerprint]bool // certificates, or keys, that count for nothing

	Budget *Budget // of the whole judgement; nil for one of its own
}

// Search returns the best path of the query, and why the search ended before
// every path was seen, if it did. There is always a path: at the least the leaf
// alone.
func (v *Verifier) Search(q Query) (best Path, ended Bound) {
	paths, ended := v.search(q, 1)
	return paths[0], ended
}

// Paths returns the paths of the query, the best first and at most maxPaths.
func (v *Verifier) Paths(q Query) (paths []Path, ended Bound) { return v.search(q, maxPaths) }

func (v *Verifier) search(q Query, keep int) ([]Path, Bound) {
	if q.Budget == nil {
		q.Budget = NewBudget(context.Background())
	}
	s := search{query: q, verifier: v, keep: keep}
	s.extend(Path{Certificates: []*pki.Certificate{q.Leaf}})
	return s.paths, s.ended
}

// Pool is a set of certificates that can be found by subject. A nil pool is empty.
type Pool struct {
	bySubject map[string][]*pki.Certificate
	held      map[pki.Fingerprint]*pki.Certificate
}

// NewPool makes a pool; a certificate that is there twice counts once.
func NewPool(list []*pki.Certificate) *Pool {
	p := &Pool{bySubject: map[string][]*pki.Certificate{}, held: map[pki.Fingerprint]*pki.Certificate{}}
	for _, c := range list {
		if p.held[c.Fingerprint()] == nil {
			p.held[c.Fingerprint()] = c
			p.bySubject[c.Subject.Key()] = append(p.bySubject[c.Subject.Key()], c)
		}
	}
	return p
}

func (p *Pool) named(subjectKey string) []*pki.Certificate {
	if p == nil {
		return nil
	}
	return p.bySubject[subjectKey]
}

// With returns a pool that holds more; the old one stays as it is.
func (p *Pool) With(more []*pki.Certificate) *Pool {
	var list []*pki.Certificate
	if p != nil {
		for _, same := range p.bySubject {
			list = append(list, same...)
		}
	}
	return NewPool(append(list, more...))
}

func (p *Pool) has(c *pki.Certificate) bool { return p.Held(c.Fingerprint()) != nil }

// Held is the certificate with the fingerprint, nil where the pool has none.
func (p *Pool) Held(id pki.Fingerprint) *pki.Certificate {
	if p == nil {
		return nil
	}
	return p.held[id]
}

// Certifies reports whether a certificate of the pool is the issuer of this one, by name and signature. What the budget
// does not reach for is no issuer.
func (v *Verifier) Certifies(b *Budget, p *Pool, c *pki.Certificate) bool {
	return slices.ContainsFunc(p.named(c.Issuer.Key()), func(issuer *pki.Certificate) bool {
		return v.CheckWithin(b, c, issuer.PublicKey) == nil
	})
}

type candidate struct {
	certificate *pki.Certificate
	anchor      *trust.Anchor
	borrowed    bool
}

type search struct {
	query    Query
	verifier *Verifier
	keep     int
	paths    []Path // the best so far, the very best first
	steps    int
	ended    Bound // why paths were left out; nothing more is looked at unless it is for their length
}

// broke ends the search because the budget does not reach.
func (s *search) broke() { s.ended = s.query.Budget.Bound() }

// over reports whether nothing more may be looked at.
func (s *search) over() bool { return s.ended != "" && s.ended != TooDeep }

// tooCostly ends the search at a path of which the budget leaves something open.
func (s *search) tooCostly(c *pki.Certificate, what string) []Failure {
	s.broke()
	return []Failure{{NotComputed, c, what}}
}

// extend follows every candidate for the issuer of the path's last certificate, and reports whether a good path came of
// it. Of borrowed twins, which differ in their dates and in what they allow, the others are looked at only where the
// one that lasts longest leads nowhere: a forged or narrower one must not stand in the way of the right one.
func (s *search) extend(p Path) (good bool) {
	top := p.Certificates[len(p.Certificates)-1]
	if anchor, ok := s.query.Store.Holds(top); ok && !s.distrusted(top) {
		p.Anchor = &anchor
		return s.offer(p)
	}
	extended := false
	var done map[line]bool
	tried := twins{}
	for _, next := range s.issuers(top) {
		if next.borrowed && (done[lineOf(next.certificate)] || s.surpassed(next.certificate, tried)) {
			continue
		}
		if s.steps++; s.steps > MaxChecks {
			s.ended = TooManyNamesakes
		}
		if s.over() {
			break
		}
		q, ok := s.step(p, next)
		if !ok {
			continue
		}
		if len(q.Certificates) > MaxPathLength {
			s.ended = TooDeep
			continue
		}
		extended = true
		if next.borrowed {
			tried.add(next.certificate)
		}
		if s.extend(q) {
			good = true
			if next.borrowed {
				if done == nil {
					done = map[line]bool{}
				}
				done[lineOf(next.certificate)] = true
			}
		}
	}
	if !extended {
		return s.offer(p)
	}
	return good
}

// issuers lists the candidates with the right name: anchors first, then those
// whose key identifier fits. No more are sorted out than can still be looked at.
func (s *search) issuers(c *pki.Certificate) []candidate {
	key := c.Issuer.Key()
	var ranks [6][]candidate
	room := MaxChecks - s.steps + 1
	add := func(next candidate) {
		if _, held := s.query.Store.Holds(next.certificate); held && next.anchor == nil {
			return // it is there as an anchor
		}
		if rank := identifierRank(c, next); len(ranks[rank]) < room {
			ranks[rank] = append(ranks[rank], next)
		}
	}
	anchors, given, known := s.query.Store.Named(key), s.query.Given.named(key), s.query.Known.named(key)
	if !s.query.Budget.spend((len(anchors) + len(given) + len(known)) / listedAtOnce) {
		s.broke()
		return nil
	}
	for _, a := range anchors {
		add(candidate{certificate: a.Certificate, anchor: &a})
	}
	for _, g := range given {
		add(candidate{certificate: g})
	}
	for _, k := range s.newest(known) {
		if !s.query.Given.has(k) {
			add(candidate{certificate: k, borrowed: true})
		}
	}
	return slices.Concat(ranks[:]...)
}

// newest orders what may be borrowed: those that are in date before the others,
// and then those that last longest. A service that has run for years knows
// dozens of twins, and mostly the first is enough.
func (s *search) newest(known []*pki.Certificate) []*pki.Certificate {
	if len(known) < 2 {
		return known
	}
	out := slices.Clone(known)
	slices.SortStableFunc(out, func(a, b *pki.Certificate) int {
		now, then := lifetime.ValidAt(a, s.query.At), lifetime.ValidAt(b, s.query.At)
		if now != then {
			if now {
				return -1
			}
			return 1
		}
		return b.NotAfter.Compare(a.NotAfter)
	})
	return out
}

func (s *search) distrusted(c *pki.Certificate) bool {
	return len(s.query.Distrusted) > 0 && (s.query.Distrusted[c.Fingerprint()] ||
		s.query.Distrusted[c.PublicKey.Fingerprint()])
}

func identifierRank(c *pki.Certificate, issuer candidate) int {
	rank := 2
	switch {
	case len(c.AuthorityKeyID) == 0 || len(issuer.certificate.SubjectKeyID) == 0:
	case bytes.Equal(c.AuthorityKeyID, issuer.certificate.SubjectKeyID):
		rank = 0
	default:
		rank = 4
	}
	if issuer.anchor == nil {
		rank++
	}
	return rank
}

// sameHolder reports whether two certificates are of one name and key. A path
// on which one holder stands twice goes in a circle: without it, it is valid
// too and shorter (RFC 4158, 5.2).
func sameHolder(a, b *pki.Certificate) bool {
	return bytes.Equal(a.PublicKey.Raw, b.PublicKey.Raw) && a.Subject.Key() == b.Subject.Key()
}

// step adds the candidate to the path, with the failures that it brings.
func (s *search) step(p Path, next candidate) (Path, bool) {
	top, issuer := p.Certificates[len(p.Certificates)-1], next.certificate
	if s.distrusted(issuer) || slices.ContainsFunc(p.Certificates,
		func(c *pki.Certificate) bool { return sameHolder(c, issuer) }) {
		return p, false
	}
	if !s.query.Budget.spend(priceOfStep) {
		s.broke()
		return p, false
	}
	failures := slices.Clone(p.Failures)
	switch err := s.verifier.CheckWithin(s.query.Budget, top, issuer.PublicKey); {
	case errors.Is(err, ErrTooCostly):
		s.broke()
		return p, false
	case errors.Is(err, pki.ErrUnverifiable):
		failures = append(failures, Failure{Unverifiable, top,
			"it uses " + top.SignatureAlgorithm.Name + " and the key " + issuer.PublicKey.String()})
	case err != nil:
		// Another key under the same name is no issuer at all; only the right key makes it a bad signature.
		if !top.PointsTo(issuer) {
			return p, false
		}
		failures = append(failures, Failure{BadSignature, top,
			fmt.Sprintf("checked with the key of %s", issuer.Label())})
	}
	if next.anchor == nil {
		failures = append(failures, authorityFailures(issuer, p.Certificates)...)
	}
	q := Path{
		Certificates: append(slices.Clone(p.Certificates), issuer),
		Failures:     failures,
		Borrowed:     p.Borrowed,
	}
	if next.borrowed {
		q.Borrowed++
	}
	return q, true
}

// authorityFailures checks that the issuer may certify what lies below it.
func authorityFailures(issuer *pki.Certificate, below []*pki.Certificate) []Failure {
	if !issuer.IsCA() {
		return []Failure{{NotAuthority, issuer, "its basic constraints do not make it a CA"}}
	}
	if issuer.BasicConstraints == nil { // of version 1: only as an anchor (RFC 5280, 6.1.4 k)
		return []Failure{{NotAuthority, issuer, "it has no basic constraints, as version 1 has none"}}
	}
	if issuer.HasKeyUsage && issuer.KeyUsage&pki.UsageCertificateSigning == 0 {
		return []Failure{{NotAuthority, issuer, "its key usage does not include certificate signing"}}
	}
	if b := issuer.BasicConstraints; b != nil && b.PathLength != nil {
		count := 0
		for _, c := range below[1:] { // self-issued intermediates do not count (RFC 5280, 6.1.4 l)
			if !c.SelfIssued() {
				count++
			}
		}
		if count > *b.PathLength {
			return []Failure{{PathLength, issuer, fmt.Sprintf("%d allowed, %d present", *b.PathLength, count)}}
		}
	}
	return nil
}

// offer completes a path, keeps it if it is better than the best so far, and
// reports whether nothing at all is wrong with it.
func (s *search) offer(p Path) (good bool) {
	for _, c := range p.Below() {
		if what, refused := c.Refused(); refused && !(p.Anchor != nil && len(p.Certificates) == 1) {
			p.Failures = append(p.Failures, Failure{UnknownCritical, c, what})
		}
	}
	for _, c := range p.Below() {
		if detail, revoked := s.query.Revoked[c.Fingerprint()]; revoked {
			p.Failures = append(p.Failures, Failure{IsRevoked, c, detail})
		}
	}
	if p.Anchor != nil && len(p.Certificates) > 1 {
		s.inherit(&p)
		policies, failures := s.policyFailure(p.Certificates)
		p.Policies = policies
		p.Failures = slices.Concat(p.Failures, s.nameFailure(p.Certificates),
			usageFailure(p.Certificates, s.query.Usage), failures)
	}
	for _, c := range p.Certificates {
		if !lifetime.ValidAt(c, s.query.At) {
			p.OutOfDate++
		}
	}
	for _, c := range p.Below() {
		if c.SignatureAlgorithm.Weak() {
			p.Weak++
		}
	}
	good = p.Valid() && p.OutOfDate == 0
	at := len(s.paths)
	for at > 0 && better(p, s.paths[at-1]) {
		at--
	}
	if at == s.keep {
		return good
	}
	s.paths = slices.Insert(s.paths, at, p)
	s.paths = s.paths[:min(len(s.paths), s.keep)]
	return good
}

// inherit checks again what could not be computed because a DSA key has its
// parameters from the certificate above (RFC 5280, 6.1.4 f).
func (s *search) inherit(p *Path) {
	key := p.Certificates[len(p.Certificates)-1].PublicKey
	for i := len(p.Certificates) - 2; i >= 0; i-- {
		c := p.Certificates[i]
		own := p.Certificates[i+1].PublicKey
		if key = own.WithParameters(key); own.DSA != nil && own.DSA.P == nil && key.DSA.P != nil {
			p.Failures = slices.DeleteFunc(p.Failures, func(f Failure) bool {
				return f.Reason == Unverifiable &&
					f.Certificate == c
			})
			if !s.query.Budget.spend(priceOf(key, len(c.RawTBS))) {
				p.Failures = append(p.Failures, s.tooCostly(c, "its signature was not checked")...)
			} else if err := c.CheckSignedBy(key); err != nil {
				p.Failures = append(p.Failures, Failure{BadSignature, c,
					"checked with the key of " + p.Certificates[i+1].Label()})
			}
		}
	}
}
