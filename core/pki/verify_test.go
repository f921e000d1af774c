package pki_test

import (
	"crypto"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"io"
	"math/big"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/forge"
	"nurvik/core/pki"
)

// signedWith makes a self-signed certificate by the standard library.
func signedWith(t *testing.T, key crypto.Signer, algorithm x509.SignatureAlgorithm) *pki.Certificate {
	t.Helper()
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Signal Station"},
		NotBefore: from, NotAfter: until, SignatureAlgorithm: algorithm}
	raw, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	require.NoError(t, err)
	c, err := pki.ParseCertificate(raw)
	require.NoError(t, err)
	return c
}

func TestSignatures(t *testing.T) {
	rsaKey, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	odd, err := rsa.GenerateKey(rand.Reader, 2049) // the encoded message is a byte shorter than the modulus
	require.NoError(t, err)
	_, edKey, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	tests := []struct {
		name      string
		key       crypto.Signer
		algorithm x509.SignatureAlgorithm
		words     string
	}{
		{"RSA with SHA-256", rsaKey, x509.SHA256WithRSA, "SHA-256 with RSA"},
		{"RSA with SHA-512", rsaKey, x509.SHA512WithRSA, "SHA-512 with RSA"},
		{"PSS with SHA-256", rsaKey, x509.SHA256WithRSAPSS, "SHA-256 with RSA-PSS"},
		{"PSS with SHA-384", rsaKey, x509.SHA384WithRSAPSS, "SHA-384 with RSA-PSS"},
		{"PSS under a modulus of odd length", odd, x509.SHA256WithRSAPSS, "SHA-256 with RSA-PSS"},
		{"ECDSA with SHA-384", newKey(t), x509.ECDSAWithSHA384, "SHA-384 with ECDSA"},
		{"Ed25519", edKey, x509.PureEd25519, "Ed25519"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			c := signedWith(t, tt.key, tt.algorithm)
			assert.Equal(t, tt.words, c.SignatureAlgorithm.Name)
			require.NoError(t, c.CheckSignedBy(c.PublicKey))

			other := signedWith(t, newKey(t), x509.ECDSAWithSHA256)
			assert.ErrorIs(t, c.CheckSignedBy(other.PublicKey), pki.ErrBadSignature, "another kind of key")

			for _, place := range []int{0, len(c.Signature) / 2, len(c.Signature) - 1} {
				spoilt := *c
				spoilt.Signature = append([]byte{}, c.Signature...)
				spoilt.Signature[place] ^= 0x40
				assert.ErrorIs(t, spoilt.CheckSignedBy(c.PublicKey), pki.ErrBadSignature, "byte %d", place)
			}
			changed := *c
			changed.RawTBS = append([]byte{}, c.RawTBS...)
			changed.RawTBS[len(changed.RawTBS)-1] ^= 1
			assert.ErrorIs(t, changed.CheckSignedBy(c.PublicKey), pki.ErrBadSignature)
		})
	}
}

// TestRSAOfAnySize verifies under a key that the standard library refuses.
func TestRSAOfAnySize(t *testing.T) {
	var n, d *big.Int
	for d == nil { // until the exponent has an inverse
		p, err := rand.Prime(rand.Reader, 384)
		require.NoError(t, err)
		q, err := rand.Prime(rand.Reader, 384)
		require.NoError(t, err)
		one := big.NewInt(1)
		n = new(big.Int).Mul(p, q)
		d = new(big.Int).ModInverse(big.NewInt(65537), new(big.Int).Mul(new(big.Int).Sub(p, one),
			new(big.Int).Sub(q, one)))
	}
	signer := smallRSA{n, d}
	key, err := x509.MarshalPKIXPublicKey(&rsa.PublicKey{N: n, E: 65537})
	require.NoError(t, err)
	raw, err := forge.Issue(nil, signer, forge.Template{Name: "capstan.tarnholm.example", SPKI: key, From: from,
		Until: until, Sign: &forge.RSASHA256})
	require.NoError(t, err)
	c, err := pki.ParseCertificate(raw)
	require.NoError(t, err)
	assert.InDelta(t, 768, c.PublicKey.Bits, 1)
	assert.NoError(t, c.CheckSignedBy(c.PublicKey))
}

// smallRSA signs by the textbook.
type smallRSA struct{ n, d *big.Int }

func (k smallRSA) Public() crypto.PublicKey { return &rsa.PublicKey{N: k.n, E: 65537} }

func (k smallRSA) Sign(_ io.Reader, digest []byte, _ crypto.SignerOpts) ([]byte, error) {
	info := append([]byte{0x30, 0x31, 0x30, 0x0d, 6, 9, 0x60, 0x86, 0x48, 1, 0x65, 3, 4, 2, 1, 5, 0, 4, 0x20},
		digest...)
	size := (k.n.BitLen() + 7) / 8
	encoded := make([]byte, size)
	encoded[1] = 1
	for i := 2; i < size-len(info)-1; i++ {
		encoded[i] = 0xff
	}
	copy(encoded[size-len(info):], info)
	return new(big.Int).Exp(new(big.Int).SetBytes(encoded), k.d, k.n).FillBytes(make([]byte, size)), nil
}

func TestWhatCannotBeComputedIsNotCalledBad(t *testing.T) {
	spki, err := forge.Ed448Info()
	require.NoError(t, err)
	key := newKey(t)
	root, err := forge.NewAuthority(nil, key, forge.Ed448,
		forge.Template{Name: "Sextant Root", SPKI: spki, From: from, Until: until})
	require.NoError(t, err)
	c, err := pki.ParseCertificate(root.DER)
	require.NoError(t, err)
	assert.Equal(t, pki.KeyEd448, c.PublicKey.Algorithm)
	assert.ErrorIs(t, c.CheckSignedBy(c.PublicKey), pki.ErrUnverifiable)
}

func TestHugeRSAIsBounded(t *testing.T) {
	c := signedWith(t, newKey(t), x509.ECDSAWithSHA256)
	rsaKey, err := rsa.GenerateKey(rand.Reader, 1024)
	require.NoError(t, err)
	r := signedWith(t, rsaKey, x509.SHA256WithRSA)
	huge := pki.PublicKey{Algorithm: pki.KeyRSA, N: new(big.Int).Lsh(big.NewInt(1), 20000), E: big.NewInt(3),
		Bits: 20001}
	assert.ErrorIs(t, r.CheckSignedBy(huge), pki.ErrUnverifiable)
	assert.ErrorIs(t, c.CheckSignedBy(huge), pki.ErrBadSignature)
}
