// Package trust holds trust stores: named sets of trust anchors, each anchor
// with its kind.
package trust

import (
	"slices"
	"sync"

	"nurvik/core/pki"
)

// Kind says who is meant to trust an anchor.
type Kind string

// The kinds of anchor.
const (
	Public    Kind = "public"    // trusted by everyone's clients
	Private   Kind = "private"   // trusted where it was installed
	Rehearsal Kind = "rehearsal" // for trying out; nobody should meet it in earnest
)

// Anchor is a certificate that is trusted as such.
type Anchor struct {
	Certificate *pki.Certificate
	Kind        Kind
	Shipped     bool // the distribution ships it, so that the rules of browsers hold for what it issues
}

// Store is a named set of anchors: an audience.
type Store struct {
	Name    string
	Anchors []Anchor

	bySubject map[string][]Anchor
	earnest   func() *Store
}

// New makes a store. Anchors that are the same certificate count once.
func New(name string, anchors []Anchor) *Store {
	s := &Store{Name: name, bySubject: map[string][]Anchor{}}
	for _, a := range anchors {
		key := a.Certificate.Subject.Key()
		same := func(b Anchor) bool { return b.Certificate.Fingerprint() == a.Certificate.Fingerprint() }
		if slices.ContainsFunc(s.bySubject[key], same) {
			continue
		}
		s.bySubject[key] = append(s.bySubject[key], a)
		s.Anchors = append(s.Anchors, a)
	}
	s.earnest = sync.OnceValue(func() *Store {
		if !slices.ContainsFunc(s.Anchors, func(a Anchor) bool { return a.Kind == Rehearsal }) {
			return s
		}
		return Merge(s.Name, s.OfKind(Public), s.OfKind(Private))
	})
	return s
}

// Earnest returns the store without its rehearsal anchors.
func (s *Store) Earnest() *Store { return s.earnest() }

// Named returns the anchors whose subject has the given key.
func (s *Store) Named(subjectKey string) []Anchor { return s.bySubject[subjectKey] }

// Holds returns the anchor that is this certificate.
func (s *Store) Holds(c *pki.Certificate) (Anchor, bool) {
	for _, a := range s.bySubject[c.Subject.Key()] {
		if a.Certificate.Fingerprint() == c.Fingerprint() {
			return a, true
		}
	}
	return Anchor{}, false
}

// Merge returns one store of all anchors of the given ones.
func Merge(name string, stores ...*Store) *Store {
	var anchors []Anchor
	for _, s := range stores {
		anchors = append(anchors, s.Anchors...)
	}
	return New(name, anchors)
}

// OfKind returns the part of the store that has the kind.
func (s *Store) OfKind(kind Kind) *Store {
	var anchors []Anchor
	for _, a := range s.Anchors {
		if a.Kind == kind {
			anchors = append(anchors, a)
		}
	}
	return New(s.Name, anchors)
}

// Comparison is what two stores have in common and what not.
type Comparison struct {
	Common                int // anchors in both, of whatever kind
	OnlyFirst, OnlySecond []Anchor
	OtherKind             []Anchor // in both, as in the first
	SecondKind            []Kind   // of those, in the second
}

// Compare compares the stores by the fingerprints of their anchors.
func Compare(first, second *Store) Comparison {
	var c Comparison
	for _, a := range first.Anchors {
		b, both := second.Holds(a.Certificate)
		switch {
		case !both:
			c.OnlyFirst = append(c.OnlyFirst, a)
		case b.Kind != a.Kind:
			c.OtherKind, c.SecondKind = append(c.OtherKind, a), append(c.SecondKind, b.Kind)
			c.Common++
		default:
			c.Common++
		}
	}
	for _, b := range second.Anchors {
		if _, both := first.Holds(b.Certificate); !both {
			c.OnlySecond = append(c.OnlySecond, b)
		}
	}
	return c
}
