package keycheck_test

import (
	"context"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"math/big"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/forge"
	"nurvik/core/keycheck"
	"nurvik/core/pki"
)

func prime(t testing.TB, bits int) *big.Int {
	t.Helper()
	p, err := rand.Prime(rand.Reader, bits)
	require.NoError(t, err)
	return p
}

func product(numbers ...*big.Int) *big.Int {
	out := big.NewInt(1)
	for _, n := range numbers {
		out.Mul(out, n)
	}
	return out
}

func key(t testing.TB, n *big.Int, e int64) pki.PublicKey {
	t.Helper()
	der, err := forge.RSAInfoOf(n, big.NewInt(e))
	require.NoError(t, err)
	k, err := pki.ParsePublicKey(der)
	require.NoError(t, err)
	return k
}

// nextPrime is the first prime above the number.
func nextPrime(n *big.Int) *big.Int {
	p := new(big.Int).Add(n, big.NewInt(2))
	for !p.ProbablyPrime(20) {
		p.Add(p, big.NewInt(2))
	}
	return p
}

func TestWeaknesses(t *testing.T) {
	p, q := prime(t, 512), prime(t, 512)
	structured, err := forge.StructuredModulus(1024)
	require.NoError(t, err)
	tests := []struct {
		name string
		n    *big.Int
		e    int64
		want []keycheck.Weakness
	}{
		{"sound", product(p, q), 65537, nil},
		{"exponent 3 is no weakness", product(p, q), 3, nil},
		{"exponent 1", product(p, q), 1, []keycheck.Weakness{keycheck.ExponentOne}},
		{"even exponent", product(p, q), 4, []keycheck.Weakness{keycheck.EvenNumbers}},
		{"even modulus", product(p, big.NewInt(2)), 65537, []keycheck.Weakness{keycheck.EvenNumbers}},
		{"small factor", product(p, big.NewInt(1999)), 65537, []keycheck.Weakness{keycheck.SmallFactor}},
		{"a factor just out of reach", product(p, q, big.NewInt(2003)), 65537, nil},
		{"close primes", product(p, nextPrime(p)), 65537, []keycheck.Weakness{keycheck.ClosePrimes}},
		{"the same prime twice", product(p, p), 65537, []keycheck.Weakness{keycheck.ClosePrimes}},
		{"structured", structured, 65537, []keycheck.Weakness{keycheck.Structured}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			var got []keycheck.Weakness
			for _, f := range keycheck.Weaknesses(key(t, tt.n, tt.e)) {
				got = append(got, f.Weakness)
				assert.NotEmpty(t, f.Text)
			}
			assert.Equal(t, tt.want, got)
		})
	}
}

func TestSoundGeneratorsHaveNoWeakness(t *testing.T) {
	for range 5 {
		k, err := rsa.GenerateKey(rand.Reader, 2048)
		require.NoError(t, err)
		der, err := x509.MarshalPKIXPublicKey(k.Public())
		require.NoError(t, err)
		public, err := pki.ParsePublicKey(der)
		require.NoError(t, err)
		assert.Empty(t, keycheck.Weaknesses(public))
		assert.Empty(t, keycheck.Unusual(public))
	}
}

func TestUnusual(t *testing.T) {
	p, q := prime(t, 512), prime(t, 512)
	assert.Contains(t, keycheck.Unusual(key(t, product(p, q), 3)), "exponent is 3")
	large := new(big.Int).SetBit(big.NewInt(1), 8192, 1)
	assert.Contains(t, keycheck.Unusual(key(t, large, 65537)), "8193 bits")
	for name, odd := range map[string]bool{"secp256k1": true, "brainpoolP256r1": true, "P-256": false, "P-521": false} {
		k := pki.PublicKey{Algorithm: pki.KeyEC, Curve: name}
		assert.Equal(t, odd, keycheck.Unusual(k) != "", name)
	}
}

func TestSharedPrimes(t *testing.T) {
	shared := prime(t, 256)
	var moduli []*big.Int
	for range 9 {
		moduli = append(moduli, product(prime(t, 256), prime(t, 256)))
	}
	moduli[3] = product(shared, prime(t, 256))
	moduli[7] = product(shared, prime(t, 256))
	moduli = append(moduli, moduli[0], new(big.Int))
	var last, all int
	factors, err := keycheck.SharedPrimes(t.Context(), moduli, func(done, total int) {
		assert.LessOrEqual(t, last, done)
		last, all = done, total
	})
	require.NoError(t, err)
	require.Len(t, factors, len(moduli))
	for i, f := range factors {
		if i == 3 || i == 7 {
			assert.Equal(t, shared, f)
			continue
		}
		assert.Nil(t, f, "modulus %d; an equal one shares nothing, and zero is passed over", i)
	}
	assert.Positive(t, last)
	assert.GreaterOrEqual(t, all, last)

	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = keycheck.SharedPrimes(ctx, moduli, nil)
	assert.ErrorIs(t, err, context.Canceled)
	none, err := keycheck.SharedPrimes(t.Context(), moduli[:1], nil)
	require.NoError(t, err)
	assert.Equal(t, []*big.Int{nil}, none)
}
