package forge

import (
	"crypto"
	"crypto/rand"
	"fmt"
	"math/big"

	"golang.org/x/crypto/cryptobyte"
	"golang.org/x/crypto/cryptobyte/asn1"
)

// NewAuthority makes an issuing certificate for the key; without an issuer it is a root.
func NewAuthority(issuer *Authority, key crypto.Signer, sign Algorithm, w Template) (*Authority, error) {
	var err error
	if w.SPKI == nil {
		if w.SPKI, err = PublicInfo(key); err != nil {
			return nil, err
		}
	}
	w.CA = true
	a := &Authority{Name: w.Name, Key: key, KeyID: KeyID(w.SPKI), Sign: sign}
	if issuer == nil {
		w.Sign = &sign
	} else {
		a.Above = append([]*Authority{issuer}, issuer.Above...)
	}
	if a.DER, err = Issue(issuer, key, w); err != nil {
		return nil, fmt.Errorf("issuer %s: %w", w.Name, err)
	}
	return a, nil
}

// Ed448Info is a SubjectPublicKeyInfo of the Ed448 algorithm (RFC 8410, 3) over noise.
func Ed448Info() ([]byte, error) {
	noise := make([]byte, 57)
	if _, err := rand.Read(noise); err != nil {
		return nil, err
	}
	return keyInfo(Ed448, noise)
}

// RSAInfo is a SubjectPublicKeyInfo with a fresh modulus of the size in bits, also of sizes that
// the standard library refuses to make. Its private part is thrown away.
func RSAInfo(bits int) ([]byte, error) {
	n := new(big.Int)
	for n.BitLen() != bits {
		p, err := rand.Prime(rand.Reader, bits/2)
		if err != nil {
			return nil, err
		}
		q, err := rand.Prime(rand.Reader, bits/2)
		if err != nil {
			return nil, err
		}
		n.Mul(p, q)
	}
	return RSAInfoOf(n, big.NewInt(65537))
}

// RSAInfoOf is a SubjectPublicKeyInfo with just these numbers, sound or not.
func RSAInfoOf(n, e *big.Int) ([]byte, error) {
	var key cryptobyte.Builder
	key.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1BigInt(n)
		b.AddASN1BigInt(e)
	})
	return keyInfo(Algorithm{ID: []int{1, 2, 840, 113549, 1, 1, 1}, Null: true}, key.BytesOrPanic())
}

// StructuredModulus makes a modulus as the faulty generator of CVE-2017-15361
// did: both primes are k·M + (65537^a mod M), M the product of the first primes.
func StructuredModulus(bits int) (*big.Int, error) {
	m := big.NewInt(2)
	for n := int64(3); n <= 167; n += 2 {
		if big.NewInt(n).ProbablyPrime(0) {
			m.Mul(m, big.NewInt(n))
		}
	}
	prime := func() (*big.Int, error) {
		most := new(big.Int).Lsh(big.NewInt(1), uint(bits/2-m.BitLen()))
		for {
			a, err := rand.Int(rand.Reader, m)
			if err != nil {
				return nil, err
			}
			k, err := rand.Int(rand.Reader, most)
			if err != nil {
				return nil, err
			}
			p := new(big.Int).Exp(big.NewInt(65537), a, m)
			if p.Add(p, k.Mul(k, m)); p.BitLen() >= bits/2-2 && p.ProbablyPrime(10) {
				return p, nil
			}
		}
	}
	p, err := prime()
	if err != nil {
		return nil, err
	}
	q, err := prime()
	if err != nil {
		return nil, err
	}
	return p.Mul(p, q), nil
}

func keyInfo(a Algorithm, bits []byte) ([]byte, error) {
	var b cryptobyte.Builder
	b.AddASN1(asn1.SEQUENCE, func(s *cryptobyte.Builder) {
		addAlgorithm(s, a)
		s.AddASN1BitString(bits)
	})
	return b.Bytes()
}
