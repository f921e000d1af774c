package chain

import (
	"errors"
	"slices"
	"sync"

	"nurvik/core/pki"
)

// Role is what a certificate is in a chain.
type Role string

// The roles.
const (
	Leaf         Role = "leaf"
	Intermediate Role = "intermediate"
	Root         Role = "root"
)

// Verifier checks signatures and remembers the results: the same intermediates
// stand in thousands of chains. It is safe for concurrent use.
type Verifier struct {
	results sync.Map // error by [2]pki.Fingerprint: certificate or list, and key
	names   sync.Map // by authority and certificate, what its name constraints forbid
}

// Check verifies the certificate's signature under the key, as pki.Certificate.CheckSignedBy does.
func (v *Verifier) Check(c *pki.Certificate, key pki.PublicKey) error { return v.check(c, key) }

// ErrTooCostly says that the budget does not reach for a signature check.
var ErrTooCostly = errors.New("the budget is spent")

// CheckWithin is Check, paid from the budget. The error may be ErrTooCostly too.
func (v *Verifier) CheckWithin(b *Budget, c *pki.Certificate, key pki.PublicKey) error {
	if !b.spendOnce([2]pki.Fingerprint{c.Fingerprint(), key.Fingerprint()}, priceOf(key, len(c.RawTBS))) {
		return ErrTooCostly
	}
	return v.check(c, key)
}

// signed is anything with a signature.
type signed interface {
	Fingerprint() pki.Fingerprint
	CheckSignedBy(key pki.PublicKey) error
}

// check verifies a signature, once for each key.
func (v *Verifier) check(what signed, key pki.PublicKey) error {
	id := [2]pki.Fingerprint{what.Fingerprint(), key.Fingerprint()}
	if known, ok := v.results.Load(id); ok {
		err, _ := known.(error) // nil for a good signature
		return err
	}
	err := what.CheckSignedBy(key)
	v.results.Store(id, err)
	return err
}

// RoleOf tells the role by the certificate alone: a root is an authority that
// certifies itself.
func (v *Verifier) RoleOf(c *pki.Certificate) Role {
	return roleOf(c, v.SelfSigned)
}

func roleOf(c *pki.Certificate, selfSigned func(*pki.Certificate) bool) Role {
	switch {
	case !c.IsCA():
		return Leaf
	case selfSigned(c):
		return Root
	}
	return Intermediate
}

// SelfSigned reports whether the certificate certifies itself, be it an authority or not.
func (v *Verifier) SelfSigned(c *pki.Certificate) bool {
	return c.SelfIssued() && v.Check(c, c.PublicKey) == nil
}

// SelfSignedWithin is the same, paid from the budget: false where that does not reach.
func (v *Verifier) SelfSignedWithin(b *Budget, c *pki.Certificate) bool {
	return c.SelfIssued() && v.CheckWithin(b, c, c.PublicKey) == nil
}

// FindLeaf returns the index of the leaf among certificates that were given
// together: the first that is no authority, since some put it last. Where all
// are authorities there is none and the result is -1.
func FindLeaf(given []*pki.Certificate) int {
	return slices.IndexFunc(given, func(c *pki.Certificate) bool { return !c.IsCA() })
}

// ServedLeaf returns the index of the leaf in a chain that an endpoint sent.
// Where all are authorities it is the first, because clients take it so.
func ServedLeaf(served []*pki.Certificate) int {
	return max(FindLeaf(served), 0)
}
