package tlswire

import (
	"encoding/hex"
	"math/big"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestKnownPrimes: a wrong digit anywhere would make a number that is no prime.
func TestKnownPrimes(t *testing.T) {
	assert.Len(t, knownPrimes(), 13)
	for prime, name := range knownPrimes() {
		p := new(big.Int).SetBytes([]byte(prime))
		assert.True(t, p.ProbablyPrime(0), name)
		if p.BitLen() <= 3072 {
			assert.True(t, new(big.Int).Rsh(p, 1).ProbablyPrime(0), "%s is a safe prime", name)
		}
	}
	known, err := hex.DecodeString(strings.ReplaceAll(`FFFFFFFFFFFFFFFFC90FDAA22168C234C4C6628B80DC1CD129024E088A67CC74020BBEA63B139B22514A08798E3404DD`+
		`EF9519B3CD3A431B302B0A6DF25F14374FE1356D6D51C245E485B576625E7EC6F44C42E9A637ED6B0BFF5CB6F406B7EDEE386BFB5A899FA5AE9F24117C4B1FE649286651ECE65381FFFFFFFFFFFFFFFF`, " ", ""))
	require.NoError(t, err)
	assert.Equal(t, "RFC 2409, 1024 bits", PrimeName(known))
	assert.Empty(t, PrimeName(known[1:]))
}
