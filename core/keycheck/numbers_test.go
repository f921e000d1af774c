package keycheck

import (
	"crypto/rand"
	"math/big"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestRoot holds our root to the standard library's, at every size and beside squares.
func TestRoot(t *testing.T) {
	for size := 1; size < 2100; size += 37 {
		limit := new(big.Int).Lsh(big.NewInt(1), uint(size))
		for range 5 {
			n, err := rand.Int(rand.Reader, limit)
			require.NoError(t, err)
			square := new(big.Int).Mul(n, n)
			for _, x := range []*big.Int{n, square, new(big.Int).Add(square, big.NewInt(1)),
				new(big.Int).Sub(square, big.NewInt(1))} {
				if x.Sign() < 0 {
					continue
				}
				assert.Zero(t, root(x).Cmp(new(big.Int).Sqrt(x)), "%v", x)
				if x == square {
					assert.True(t, maybeSquare(x), "no square is passed over: %v", x)
				}
			}
		}
	}
}

func TestRemainder(t *testing.T) {
	for range 200 {
		n, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 2048))
		require.NoError(t, err)
		by, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 62))
		require.NoError(t, err)
		by.Add(by, big.NewInt(1))
		assert.Equal(t, new(big.Int).Mod(n, by).Uint64(), remainder(n, by.Uint64()))
	}
}
