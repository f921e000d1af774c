package chain

import (
	"slices"

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

// RoleOf tells the role by the certificate alone: a root is an authority that
// certifies itself.
func RoleOf(c *pki.Certificate) Role {
	switch {
	case !c.IsCA():
		return Leaf
	case c.SelfIssued() && c.CheckSignedBy(c.PublicKey) == nil:
		return Root
	}
	return Intermediate
}

// SelfSigned reports whether the certificate certifies itself, be it an authority or not.
func SelfSigned(c *pki.Certificate) bool {
	return c.SelfIssued() && c.CheckSignedBy(c.PublicKey) == nil
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
