package tlswire

import (
	"bytes"
	"crypto/rand"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What real servers make of these records is shown in package servers: the
// standard library's server does not know encrypt-then-MAC.
func TestMACRecords(t *testing.T) {
	for name, tt := range map[string]struct {
		suite   Suite
		version Version
		macLast bool
		length  int // of the first record with 20 bytes
	}{
		"TLS 1.0, MAC first":           {0x002f, TLS10, false, 48},
		"TLS 1.0, MAC last":            {0x002f, TLS10, true, 32 + 20},
		"TLS 1.2, MAC first":           {0x002f, TLS12, false, 16 + 48},
		"TLS 1.2, MAC last":            {0x002f, TLS12, true, 16 + 32 + 20},
		"TLS 1.2, SHA-256 and last":    {0x003c, TLS12, true, 16 + 32 + 32},
		"a stream cipher has no other": {0x0005, TLS12, true, 20 + 20},
	} {
		t.Run(name, func(t *testing.T) {
			k, err := keysOf(tt.suite)
			require.NoError(t, err)
			k.macLast = tt.macLast
			mac, key, iv := make([]byte, k.mac), make([]byte, k.key), make([]byte, k.iv)
			fresh := func() protection {
				p, err := k.protection(tt.version, mac, key, iv, rand.Reader)
				require.NoError(t, err)
				return p
			}
			out, in := fresh(), fresh()
			for i, text := range []string{"twenty bytes of text", "", "more"} {
				_, record := out.seal(contentApplication, tt.version, []byte(text))
				if i == 0 {
					assert.Len(t, record, tt.length)
				}
				_, plain, err := in.open(contentApplication, tt.version, record)
				require.NoError(t, err)
				assert.Equal(t, text, string(plain))
			}
			_, record := fresh().seal(contentApplication, tt.version, []byte("spoilt"))
			_, _, err = fresh().open(contentApplication, tt.version, bytes.Clone(record))
			require.NoError(t, err)
			for i := range record {
				spoilt := bytes.Clone(record)
				spoilt[i] ^= 1
				_, _, err = fresh().open(contentApplication, tt.version, spoilt)
				assert.Error(t, err, "byte %d", i)
			}
		})
	}
}
