package pki_test

import (
	"crypto/ecdh"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/asn1"
	"fmt"
	"math/big"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/forge"
	"nurvik/core/pki"
)

// must hands on a result of which the test needs no error.
func must[T any](t testing.TB) func(T, error) T {
	return func(value T, err error) T {
		t.Helper()
		require.NoError(t, err)
		return value
	}
}

func marshal(t testing.TB, value any) []byte { return must[[]byte](t)(asn1.Marshal(value)) }

// TestPrivateKeysOfEveryKind reads what the standard library writes: the public
// half is that of the standard library, and nothing disagrees.
func TestPrivateKeysOfEveryKind(t *testing.T) {
	rsaKey := must[*rsa.PrivateKey](t)(rsa.GenerateKey(rand.Reader, 2048))
	_, edKey, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	keys := map[string]any{"RSA 2048": rsaKey, "Ed25519": edKey,
		"X25519": must[*ecdh.PrivateKey](t)(ecdh.X25519().GenerateKey(rand.Reader))}
	for name, curve := range map[string]elliptic.Curve{"EC P-224": elliptic.P224(), "EC P-256": elliptic.P256(),
		"EC P-384": elliptic.P384(), "EC P-521": elliptic.P521()} {
		keys[name] = must[*ecdsa.PrivateKey](t)(ecdsa.GenerateKey(curve, rand.Reader))
	}
	check := func(t *testing.T, name string, key any, k *pki.PrivateKey, err error) {
		t.Helper()
		require.NoError(t, err)
		assert.Equal(t, name, k.Public.String())
		assert.Empty(t, k.Problems)
		var public any
		switch own := key.(type) {
		case *rsa.PrivateKey:
			public = own.Public()
		case *ecdsa.PrivateKey:
			public = own.Public()
		case ed25519.PrivateKey:
			public = own.Public()
		case *ecdh.PrivateKey:
			public = own.Public()
		}
		assert.Equal(t, must[[]byte](t)(x509.MarshalPKIXPublicKey(public)), k.Public.Raw)
	}
	for name, key := range keys {
		t.Run(name+" in PKCS#8", func(t *testing.T) {
			k, err := pki.ParsePKCS8(must[[]byte](t)(x509.MarshalPKCS8PrivateKey(key)))
			check(t, name, key, k, err)
		})
		if own, ok := key.(*ecdsa.PrivateKey); ok {
			t.Run(name+" in SEC1", func(t *testing.T) {
				k, err := pki.ParseSEC1(must[[]byte](t)(x509.MarshalECPrivateKey(own)))
				check(t, name, key, k, err)
			})
		}
	}
	t.Run("RSA in PKCS#1", func(t *testing.T) {
		k, err := pki.ParsePKCS1(x509.MarshalPKCS1PrivateKey(rsaKey))
		check(t, "RSA 2048", rsaKey, k, err)
	})
}

// rsaNumbers is an RSAPrivateKey of the numbers (RFC 8017, A.1.2).
func rsaNumbers(t *testing.T, key *rsa.PrivateKey, change func(n []*big.Int)) []byte {
	n := []*big.Int{big.NewInt(0), key.N, big.NewInt(int64(key.E)), key.D, key.Primes[0], key.Primes[1],
		key.Precomputed.Dp, key.Precomputed.Dq, key.Precomputed.Qinv}
	for i := range n {
		n[i] = new(big.Int).Set(n[i])
	}
	change(n)
	return marshal(t, struct{ V, N, E, D, P, Q, DP, DQ, QI *big.Int }{n[0], n[1], n[2], n[3], n[4], n[5], n[6], n[7],
		n[8]})
}

func TestPartsOfPrivateKeysAgree(t *testing.T) {
	key := must[*rsa.PrivateKey](t)(rsa.GenerateKey(rand.Reader, 1024))
	plus := func(i int, by int64) func([]*big.Int) {
		return func(n []*big.Int) { n[i].Add(n[i], big.NewInt(by)) }
	}
	for _, tt := range []struct {
		name   string
		change func([]*big.Int)
		want   string // "" for no problem
	}{
		{"sound", func([]*big.Int) {}, ""},
		{"another modulus", plus(1, 2), "the primes do not multiply to the modulus"},
		{"another private exponent", plus(3, 2), "the private exponent does not belong to the public one"},
		{"another prime", plus(4, 2), "the primes do not multiply to the modulus"},
		{"another first exponent", plus(6, 1), "the first shortened exponent is wrong"},
		{"another second exponent", plus(7, 1), "the second shortened exponent is wrong"},
		{"another coefficient", plus(8, 1), "the coefficient is wrong"},
		{"no primes at all", func(n []*big.Int) { n[4].SetInt64(0); n[5].SetInt64(0) },
			"the primes do not multiply to the modulus"},
		{"several primes, of which the others follow", func(n []*big.Int) {
			n[0].SetInt64(1)
			n[1].Mul(n[1],
				big.NewInt(3))
		}, ""},
	} {
		t.Run("RSA, "+tt.name, func(t *testing.T) {
			k, err := pki.ParsePKCS1(rsaNumbers(t, key, tt.change))
			require.NoError(t, err)
			if tt.want == "" {
				assert.Empty(t, k.Problems)
			} else {
				assert.Contains(t, k.Problems, tt.want)
			}
			assert.True(t, k.Comparable())
		})
	}
	one, two := must[*ecdsa.PrivateKey](t)(ecdsa.GenerateKey(elliptic.P256(), rand.Reader)),
		must[*ecdsa.PrivateKey](t)(ecdsa.GenerateKey(elliptic.P256(), rand.Reader))
	type ecPrivate struct {
		Version int
		Private []byte
		Curve   asn1.ObjectIdentifier `asn1:"explicit,tag:0"`
		Public  asn1.BitString        `asn1:"optional,explicit,tag:1"`
	}
	p256 := asn1.ObjectIdentifier{1, 2, 840, 10045, 3, 1, 7}
	point := must[[]byte](t)(two.PublicKey.Bytes())
	private := must[[]byte](t)(one.Bytes())
	t.Run("EC, the public part of another key", func(t *testing.T) {
		k, err := pki.ParseSEC1(marshal(t, ecPrivate{1, private, p256,
			asn1.BitString{Bytes: point, BitLength: 8 * len(point)}}))
		require.NoError(t, err)
		assert.Contains(t, k.Problems, "the public part that is written beside it belongs to another key")
		assert.Equal(t, must[[]byte](t)(x509.MarshalPKIXPublicKey(one.Public())), k.Public.Raw,
			"the private part decides")
	})
	t.Run("EC, no public part, leading zeros lost", func(t *testing.T) {
		short := append([]byte{}, private...)
		short[0] = 0
		full := must[*ecdsa.PrivateKey](t)(ecdsa.ParseRawPrivateKey(elliptic.P256(), short))
		k, err := pki.ParseSEC1(marshal(t, struct {
			Version int
			Private []byte
			Curve   asn1.ObjectIdentifier `asn1:"explicit,tag:0"`
		}{1, short[1:], p256}))
		require.NoError(t, err)
		assert.Empty(t, k.Problems)
		assert.Equal(t, must[[]byte](t)(x509.MarshalPKIXPublicKey(full.Public())), k.Public.Raw)
	})
	t.Run("EC, a number that the curve does not allow", func(t *testing.T) {
		k, err := pki.ParseSEC1(marshal(t, ecPrivate{1, make([]byte, 32), p256,
			asn1.BitString{Bytes: point, BitLength: 8 * len(point)}}))
		require.NoError(t, err)
		assert.Contains(t, k.Problems, "the private part is no number that the curve allows")
	})
	t.Run("EC on a curve that is only recognised", func(t *testing.T) {
		k, err := pki.ParseSEC1(marshal(t, struct {
			Version int
			Private []byte
			Curve   asn1.ObjectIdentifier `asn1:"explicit,tag:0"`
		}{1, private, asn1.ObjectIdentifier{1, 3, 36, 3, 3, 2, 8, 1, 1, 7}}))
		require.NoError(t, err)
		assert.Equal(t, "EC brainpoolP256r1", k.Public.String())
		assert.False(t, k.Comparable(), "its public half cannot be computed here")
	})
	t.Run("no curve", func(t *testing.T) {
		_, err := pki.ParseSEC1(marshal(t, struct {
			Version int
			Private []byte
		}{1, private}))
		assert.ErrorIs(t, err, pki.ErrNoKey)
		assert.ErrorContains(t, err, "does not name its curve")
	})
}

// TestKeysThatAreOnlyRecognised: their kind is told, whatever their bits are.
func TestKeysThatAreOnlyRecognised(t *testing.T) {
	type algorithm struct {
		ID         asn1.ObjectIdentifier
		Parameters asn1.ObjectIdentifier `asn1:"optional"`
	}
	public := func(bits int, id, parameters asn1.ObjectIdentifier) []byte {
		return marshal(t, struct {
			Algorithm algorithm
			Key       asn1.BitString
		}{algorithm{id, parameters}, asn1.BitString{Bytes: append([]byte{4}, make([]byte, bits-1)...),
			BitLength: 8 * bits}})
	}
	ec, mldsa := asn1.ObjectIdentifier{1, 2, 840, 10045, 2, 1}, asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 3, 17}
	for want, der := range map[string][]byte{
		"EC secp256k1":                 public(65, ec, asn1.ObjectIdentifier{1, 3, 132, 0, 10}),
		"EC brainpoolP384r1":           public(97, ec, asn1.ObjectIdentifier{1, 3, 36, 3, 3, 2, 8, 1, 1, 11}),
		"Ed448":                        public(57, asn1.ObjectIdentifier{1, 3, 101, 113}, nil),
		"X448":                         public(56, asn1.ObjectIdentifier{1, 3, 101, 111}, nil),
		"ML-DSA-44":                    public(1312, mldsa, nil),
		"EC 2.999.5":                   public(65, ec, asn1.ObjectIdentifier{2, 999, 5}),
		"unknown key type 2.999.1.2.3": public(20, asn1.ObjectIdentifier{2, 999, 1, 2, 3}, nil),
	} {
		k, err := pki.ParsePublicKey(der)
		require.NoError(t, err, want)
		assert.Equal(t, want, k.String())
		private, err := pki.ParsePKCS8(marshal(t, struct {
			Version   int
			Algorithm algorithm
			Private   []byte
		}{0, algorithm{ID: asn1.ObjectIdentifier{1, 3, 101, 113}}, make([]byte, 57)}))
		require.NoError(t, err)
		assert.False(t, private.Comparable())
	}
	assert.True(t, pki.OddCurve("secp256k1"))
	assert.False(t, pki.OddCurve("P-384"))
}

// TestMatchLooksPastTheWriting: the same key is the same key, however it is written.
func TestMatchLooksPastTheWriting(t *testing.T) {
	key := must[*ecdsa.PrivateKey](t)(ecdsa.GenerateKey(elliptic.P256(), rand.Reader))
	usual := must[pki.PublicKey](t)(pki.ParsePublicKey(must[[]byte](t)(x509.MarshalPKIXPublicKey(key.Public()))))
	type algorithm struct{ ID, Parameters asn1.ObjectIdentifier }
	point := must[[]byte](t)(key.PublicKey.Bytes())
	compressed := append([]byte{2 | point[64]&1}, point[1:33]...) // SEC 1, 2.3.3
	other := must[pki.PublicKey](t)(pki.ParsePublicKey(marshal(t, struct {
		Algorithm algorithm
		Key       asn1.BitString
	}{algorithm{asn1.ObjectIdentifier{1, 2, 840, 10045, 2, 1}, asn1.ObjectIdentifier{1, 2, 840, 10045, 3, 1, 7}},
		asn1.BitString{Bytes: compressed, BitLength: 8 * len(compressed)}})))
	assert.NotEqual(t, usual.Fingerprint(), other.Fingerprint())
	assert.Equal(t, usual.Match(), other.Match())

	n := must[[]byte](t)(forge.RSAInfo(1024))
	plain := must[pki.PublicKey](t)(pki.ParsePublicKey(n))
	pss := must[pki.PublicKey](t)(pki.ParsePublicKey(marshal(t, struct {
		Algorithm struct{ ID asn1.ObjectIdentifier }
		Key       asn1.BitString
	}{struct{ ID asn1.ObjectIdentifier }{asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 1, 10}},
		asn1.BitString{Bytes: plain.Bytes, BitLength: 8 * len(plain.Bytes)}})))
	assert.Equal(t, "RSA-PSS 1024", pss.String())
	assert.Equal(t, plain.Match(), pss.Match())
	assert.NotEqual(t, plain.Match(), usual.Match())
}

func TestNoKeys(t *testing.T) {
	for name, parse := range map[string]func([]byte) (*pki.PrivateKey, error){"PKCS#8": pki.ParsePKCS8,
		"PKCS#1": pki.ParsePKCS1, "SEC1": pki.ParseSEC1, "DSA": pki.ParseDSA} {
		for _, der := range [][]byte{nil, {0x30}, {0x30, 0}, {0x30, 3, 2, 1, 0}, {4, 2, 1, 1}, []byte("-----BEGIN")} {
			_, err := parse(der)
			assert.ErrorIs(t, err, pki.ErrNoKey, fmt.Sprintf("%s of %x", name, der))
		}
	}
}

func TestParametersInWords(t *testing.T) {
	for want, value := range map[string]any{
		"curve P-256":       asn1.ObjectIdentifier{1, 2, 840, 10045, 3, 1, 7},
		"curve 2.999.5":     asn1.ObjectIdentifier{2, 999, 5},
		"prime of 512 bits": struct{ P, G *big.Int }{new(big.Int).SetBit(big.NewInt(1), 511, 1), big.NewInt(2)},
	} {
		assert.Equal(t, want, pki.DescribeParameters(marshal(t, value)))
	}
}
