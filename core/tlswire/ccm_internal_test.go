package tlswire

import (
	"crypto/aes"
	"crypto/mlkem"
	"crypto/rand"
	"encoding/hex"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestLattices: both halves of the groups with a part in ML-KEM agree, also of those that no server here has.
func TestLattices(t *testing.T) {
	for group, j := range joined {
		ours, err := agree(group, rand.Reader)
		require.NoError(t, err)
		lattice, curve := ours.share.Data, []byte(nil)
		if j.curveFirst {
			curve, lattice = lattice[:j.size], lattice[j.size:]
		} else if j.size > 0 {
			lattice, curve = lattice[:len(lattice)-j.size], lattice[len(lattice)-j.size:]
		}
		var secret, ciphertext []byte
		if j.lattice.size == mlkem.CiphertextSize768 {
			key, err := mlkem.NewEncapsulationKey768(lattice)
			require.NoError(t, err, group)
			secret, ciphertext = key.Encapsulate()
		} else {
			key, err := mlkem.NewEncapsulationKey1024(lattice)
			require.NoError(t, err, group)
			secret, ciphertext = key.Encapsulate()
		}
		answer, want := ciphertext, secret
		if j.curve != 0 {
			theirs, err := agree(j.curve, rand.Reader)
			require.NoError(t, err)
			point, err := theirs.finish(curve)
			require.NoError(t, err)
			if j.curveFirst {
				answer, want = append(theirs.share.Data, ciphertext...), append(point, secret...)
			} else {
				answer, want = append(ciphertext, theirs.share.Data...), append(secret, point...)
			}
		}
		got, err := ours.finish(answer)
		require.NoError(t, err, group)
		assert.Equal(t, want, got, group)
		_, err = ours.finish(answer[1:])
		assert.ErrorContains(t, err, "wrong length", group)
	}
}

// TestCCM runs vectors of RFC 3610 (section 8) and of NIST SP 800-38C (appendix C).
func TestCCM(t *testing.T) {
	tests := []struct {
		name, key, nonce, additional, plain, sealed string
		tag                                         int
	}{
		{"RFC 3610, packet 1", "c0c1c2c3c4c5c6c7c8c9cacbcccdcecf", "00000003020100a0a1a2a3a4a5", "0001020304050607",
			"08090a0b0c0d0e0f101112131415161718191a1b1c1d1e",
			"588c979a61c663d2f066d0c2c0f989806d5f6b61dac38417e8d12cfdf926e0", 8},
		{"SP 800-38C, example 1", "404142434445464748494a4b4c4d4e4f", "10111213141516", "0001020304050607", "20212223",
			"7162015b4dac255d", 4},
		{"SP 800-38C, example 2", "404142434445464748494a4b4c4d4e4f", "1011121314151617",
			"000102030405060708090a0b0c0d0e0f", "202122232425262728292a2b2c2d2e2f",
			"d2a1f0e051ea5f62081a7792073d593d1fc64fbfaccd", 6},
		{"SP 800-38C, example 3", "404142434445464748494a4b4c4d4e4f", "101112131415161718191a1b",
			"000102030405060708090a0b0c0d0e0f10111213",
			"202122232425262728292a2b2c2d2e2f3031323334353637",
			"e3b201a9f5b71a7a9b1ceaeccd97e70b6176aad9a4428aa5484392fbc1b09951", 8},
	}
	raw := func(text string) []byte {
		out, err := hex.DecodeString(text)
		require.NoError(t, err)
		return out
	}
	for _, tt := range tests {
		block, err := aes.NewCipher(raw(tt.key))
		require.NoError(t, err)
		c := &ccm{block, tt.tag, len(tt.nonce) / 2}
		sealed := c.Seal(nil, raw(tt.nonce), raw(tt.plain), raw(tt.additional))
		assert.Equal(t, tt.sealed, hex.EncodeToString(sealed), tt.name)
		plain, err := c.Open(nil, raw(tt.nonce), sealed, raw(tt.additional))
		assert.NoError(t, err, tt.name)
		assert.Equal(t, tt.plain, hex.EncodeToString(plain), tt.name)
		for i := range sealed {
			spoilt := append([]byte{}, sealed...)
			spoilt[i] ^= 1
			_, err := c.Open(nil, raw(tt.nonce), spoilt, raw(tt.additional))
			assert.Error(t, err, "%s: byte %d", tt.name, i)
		}
		_, err = c.Open(nil, raw(tt.nonce), sealed[:tt.tag-1], nil)
		assert.Error(t, err, tt.name)
	}
}
