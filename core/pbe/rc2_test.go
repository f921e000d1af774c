package pbe

import (
	"encoding/asn1"
	"encoding/hex"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func unhex(t *testing.T, text string) []byte {
	t.Helper()
	out, err := hex.DecodeString(text)
	require.NoError(t, err)
	return out
}

// TestRC2 holds the cipher to the vectors of RFC 2268, section 5.
func TestRC2(t *testing.T) {
	for _, v := range []struct {
		key, plain, cipher string
		bits               int
	}{
		{"0000000000000000", "0000000000000000", "ebb773f993278eff", 63},
		{"ffffffffffffffff", "ffffffffffffffff", "278b27e42e2f0d49", 64},
		{"3000000000000000", "1000000000000001", "30649edf9be7d2c2", 64},
		{"88", "0000000000000000", "61a8a244adacccf0", 64},
		{"88bca90e90875a", "0000000000000000", "6ccf4308974c267f", 64},
		{"88bca90e90875a7f0f79c384627bafb2", "0000000000000000", "1a807d272bbe5db1", 64},
		{"88bca90e90875a7f0f79c384627bafb2", "0000000000000000", "2269552ab0f85ca6", 128},
		{"88bca90e90875a7f0f79c384627bafb216f80a6f85920584c42fceb0be255daf1e", "0000000000000000", "5b78d3a43dfff1f1",
			129},
	} {
		got := make([]byte, 8)
		newRC2Cipher(unhex(t, v.key), v.bits).Decrypt(got, unhex(t, v.cipher))
		assert.Equal(t, v.plain, hex.EncodeToString(got), "key %s with %d bits", v.key, v.bits)
	}
}

// pbes2With is PBES2 with PBKDF2 of so many rounds and AES-256 (RFC 8018, A.4).
func pbes2With(t *testing.T, rounds int) []byte {
	t.Helper()
	type part struct {
		ID         asn1.ObjectIdentifier
		Parameters any
	}
	der, err := asn1.Marshal(part{asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 13}, struct{ Derive, Cipher part }{
		part{asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 12}, struct {
			Salt   []byte
			Rounds int
			Hash   part
		}{make([]byte, 8), rounds, part{asn1.ObjectIdentifier{1, 2, 840, 113549, 2, 9}, asn1.NullRawValue}}},
		part{asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 1, 42}, make([]byte, 16)},
	}})
	require.NoError(t, err)
	return der
}

// TestErrorsAreToldApart: a wrong password, damage, what is not supported and
// what costs too much are different things.
func TestErrorsAreToldApart(t *testing.T) {
	aes := pbes2With(t, 2000)
	unknown, err := asn1.Marshal(struct{ ID asn1.ObjectIdentifier }{asn1.ObjectIdentifier{2, 999, 1}})
	require.NoError(t, err)
	noise := make([]byte, 64)
	for _, tt := range []struct {
		name       string
		algorithm  []byte
		ciphertext []byte
		budget     *Budget
		want       error
	}{
		{"wrong password", aes, noise, &Budget{}, ErrPassword},
		{"cut off inside a block", aes, noise[:33], &Budget{}, ErrDamaged},
		{"an algorithm that is not known", unknown, noise, &Budget{}, ErrUnsupported},
		{"too many rounds", pbes2With(t, MaxRounds+1), noise, &Budget{}, ErrTooCostly},
		{"no algorithm at all", []byte{1, 2, 3}, noise, &Budget{}, ErrDamaged},
	} {
		t.Run(tt.name, func(t *testing.T) {
			_, err := Decrypt(tt.algorithm, tt.ciphertext, "sextant", tt.budget)
			assert.ErrorIs(t, err, tt.want)
		})
	}
	t.Run("the budget of a run ends", func(t *testing.T) {
		budget := &Budget{}
		for range MaxRunRounds / MaxRounds {
			require.NoError(t, budget.spend(MaxRounds))
		}
		assert.ErrorIs(t, budget.spend(1), ErrTooCostly)
		assert.ErrorIs(t, (&Budget{}).spend(MaxRounds+1), ErrTooCostly)
	})
}
