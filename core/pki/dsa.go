package pki

import (
	"fmt"
	"math/big"

	"golang.org/x/crypto/cryptobyte"
)

// DSANumbers are the numbers of a DSA key (RFC 3279, 2.3.2). P, Q and G are nil
// where the parameters are inherited from the issuer's key.
type DSANumbers struct{ P, Q, G, Y *big.Int }

// maxDSABits bounds the work that a hostile key can cause.
const maxDSABits = 4096

// WithParameters returns a DSA key that lacks parameters with those of the
// issuer's key (RFC 3279, 2.3.2); any other key as it is.
func (k PublicKey) WithParameters(issuer PublicKey) PublicKey {
	if k.DSA == nil || k.DSA.P != nil || issuer.DSA == nil {
		return k
	}
	numbers := *issuer.DSA
	numbers.Y = k.DSA.Y
	k.DSA, k.Bits = &numbers, issuer.Bits
	return k
}

// verifyDSA follows FIPS 186-4, section 4.7.
func verifyDSA(key PublicKey, digest, signature []byte) error {
	if key.Algorithm != KeyDSA || key.DSA == nil {
		return ErrBadSignature
	}
	n := key.DSA
	if n.P == nil {
		return fmt.Errorf("%w: the DSA key has no parameters of its own", ErrUnverifiable)
	}
	if n.P.BitLen() > maxDSABits || n.Q.BitLen() > maxDSABits {
		return fmt.Errorf("%w: DSA key of %d bits", ErrUnverifiable, n.P.BitLen())
	}
	one := big.NewInt(1)
	if n.P.Cmp(one) <= 0 || n.Q.Cmp(one) <= 0 || n.G.Cmp(one) <= 0 || n.Y.Sign() <= 0 {
		return ErrBadSignature
	}
	var r, s big.Int
	der, inner := cryptobyte.String(signature), cryptobyte.String(nil)
	if !der.ReadASN1(&inner, tagSequence) || !der.Empty() || !inner.ReadASN1Integer(&r) || !inner.ReadASN1Integer(&s) ||
		!inner.Empty() {
		return ErrBadSignature
	}
	if r.Sign() <= 0 || s.Sign() <= 0 || r.Cmp(n.Q) >= 0 || s.Cmp(n.Q) >= 0 {
		return ErrBadSignature
	}
	if size := (n.Q.BitLen() + 7) / 8; len(digest) > size {
		digest = digest[:size]
	}
	w := new(big.Int).ModInverse(&s, n.Q)
	if w == nil {
		return ErrBadSignature
	}
	u1 := new(big.Int).SetBytes(digest)
	u1.Mod(u1.Mul(u1, w), n.Q)
	u2 := w.Mod(w.Mul(&r, w), n.Q)
	v := new(big.Int).Exp(n.G, u1, n.P)
	v.Mul(v, new(big.Int).Exp(n.Y, u2, n.P))
	v.Mod(v.Mod(v, n.P), n.Q)
	return verdict(v.Cmp(&r) == 0)
}
