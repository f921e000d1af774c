package tlswire

import (
	"crypto/ecdh"
	"crypto/mlkem"
	"fmt"
	"io"
	"math/big"

	"github.com/cloudflare/circl/dh/x448"
)

// agreement is our half of a key agreement.
type agreement struct {
	share  KeyShare
	finish func(peer []byte) ([]byte, error)
}

var curvesOf = map[Group]func() ecdh.Curve{X25519: ecdh.X25519, P256: ecdh.P256, P384: ecdh.P384, P521: ecdh.P521}

// lattice is a key encapsulation of ML-KEM (FIPS 203), of which we make the key pair.
type lattice struct {
	size int // of the ciphertext, in bytes
	make func() (public []byte, open func(ciphertext []byte) ([]byte, error), err error)
}

var (
	lattice768 = lattice{mlkem.CiphertextSize768, func() ([]byte, func([]byte) ([]byte, error), error) {
		key, err := mlkem.GenerateKey768()
		if err != nil {
			return nil, nil, err
		}
		return key.EncapsulationKey().Bytes(), key.Decapsulate, nil
	}}
	lattice1024 = lattice{mlkem.CiphertextSize1024, func() ([]byte, func([]byte) ([]byte, error), error) {
		key, err := mlkem.GenerateKey1024()
		if err != nil {
			return nil, nil, err
		}
		return key.EncapsulationKey().Bytes(), key.Decapsulate, nil
	}}
)

// joined are the groups with a part in ML-KEM, alone or beside a curve. Which
// part comes first differs (draft-ietf-tls-ecdhe-mlkem, 4.1 to 4.3).
var joined = map[Group]struct {
	lattice    lattice
	curve      Group
	size       int // of a share of the curve, in bytes
	curveFirst bool
}{
	X25519MLKEM768:     {lattice768, X25519, 32, false},
	SecP256r1MLKEM768:  {lattice768, P256, 65, true},
	SecP384r1MLKEM1024: {lattice1024, P384, 97, true},
	MLKEM768:           {lattice: lattice768},
	MLKEM1024:          {lattice: lattice1024},
}

// Agreeable reports whether keys can be agreed in the group here.
func Agreeable(g Group) bool {
	_, curve := curvesOf[g]
	_, lattice := joined[g]
	return curve || lattice || g == X448
}

// agree makes our half for the group. The error is ErrSuite for groups that no keys can be agreed in here.
func agree(g Group, random io.Reader) (agreement, error) {
	if _, is := joined[g]; is {
		return agreeJoined(g, random)
	}
	if g == X448 {
		return agree448(random)
	}
	curve, ok := curvesOf[g]
	if !ok {
		return agreement{}, fmt.Errorf("%w: no key can be agreed in %s", ErrSuite, g)
	}
	key, err := curve().GenerateKey(random)
	if err != nil {
		return agreement{}, err
	}
	return agreement{KeyShare{g, key.PublicKey().Bytes()}, func(peer []byte) ([]byte, error) {
		public, err := curve().NewPublicKey(peer)
		if err != nil {
			return nil, &BadMessageError{"the key share is no point of " + g.String()}
		}
		secret, err := key.ECDH(public)
		if err != nil {
			return nil, &BadMessageError{"the key share is a point of low order"}
		}
		return secret, nil
	}}, nil
}

func agreeJoined(g Group, random io.Reader) (agreement, error) {
	j := joined[g]
	public, open, err := j.lattice.make()
	if err != nil {
		return agreement{}, err
	}
	classic := agreement{finish: func([]byte) ([]byte, error) { return nil, nil }}
	if j.curve != 0 {
		if classic, err = agree(j.curve, random); err != nil {
			return agreement{}, err
		}
	}
	inOrder := func(lattice, curve []byte) []byte {
		if j.curveFirst {
			return append(append([]byte{}, curve...), lattice...)
		}
		return append(append([]byte{}, lattice...), curve...)
	}
	return agreement{KeyShare{g, inOrder(public, classic.share.Data)}, func(peer []byte) ([]byte, error) {
		if len(peer) != j.lattice.size+j.size {
			return nil, &BadMessageError{"the key share of " + g.String() + " has a wrong length"}
		}
		ciphertext, point := peer[:j.lattice.size], peer[j.lattice.size:]
		if j.curveFirst {
			point, ciphertext = peer[:j.size], peer[j.size:]
		}
		one, err := open(ciphertext)
		if err != nil {
			return nil, &BadMessageError{"the key share of " + g.String() + " is malformed"}
		}
		two, err := classic.finish(point)
		return inOrder(one, two), err
	}}, nil
}

// agree448 is for X448 (RFC 7748, 5), which the standard library does not have.
func agree448(random io.Reader) (agreement, error) {
	var secret, public x448.Key
	if _, err := io.ReadFull(random, secret[:]); err != nil {
		return agreement{}, err
	}
	x448.KeyGen(&public, &secret)
	return agreement{KeyShare{X448, public[:]}, func(peer []byte) ([]byte, error) {
		var theirs, shared x448.Key
		if len(peer) != len(theirs) {
			return nil, &BadMessageError{"the key share of x448 has a wrong length"}
		}
		copy(theirs[:], peer)
		if !x448.Shared(&shared, &secret, &theirs) {
			return nil, &BadMessageError{"the key share is a point of low order"}
		}
		return shared[:], nil
	}}, nil
}

// maxPrime bounds the work that a peer's group can cause.
const maxPrime = 8192

// agreeFinite answers a server's Diffie-Hellman value (RFC 5246, 8.1.2).
func agreeFinite(k KeyExchange, random io.Reader) (public, secret []byte, err error) {
	p, g, y := new(big.Int).SetBytes(k.Prime), new(big.Int).SetBytes(k.Generator), new(big.Int).SetBytes(k.Public)
	if p.BitLen() > maxPrime || p.BitLen() < 16 || p.Bit(0) == 0 || y.Sign() <= 0 || y.Cmp(p) >= 0 {
		return nil, nil, fmt.Errorf("%w: a group of %d bits", ErrSuite, p.BitLen())
	}
	raw := make([]byte, 32)
	if _, err := io.ReadFull(random, raw); err != nil {
		return nil, nil, err
	}
	x := new(big.Int).SetBytes(raw)
	return new(big.Int).Exp(g, x, p).Bytes(), new(big.Int).Exp(y, x, p).Bytes(), nil
}
