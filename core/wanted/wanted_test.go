package wanted_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"math/big"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/forge"
	"nurvik/core/pki"
	"nurvik/core/wanted"
)

func certificate(t *testing.T, serial int64) *pki.Certificate {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	spki, err := forge.PublicInfo(key)
	require.NoError(t, err)
	der, err := forge.Issue(nil, key, forge.Template{Name: "Tide Gauge", Names: []string{"tides.tarnholm.example",
		"*.quays.tarnholm.example"}, Serial: big.NewInt(serial), SPKI: spki, From: time.Now(),
		Until: time.Now().AddDate(0, 1, 0)})
	require.NoError(t, err)
	c, err := pki.ParseCertificate(der)
	require.NoError(t, err)
	return c
}

func TestThings(t *testing.T) {
	c := certificate(t, 0x1234567890)
	sum := c.Fingerprint().String()
	var colons strings.Builder
	for i := 0; i < len(sum); i += 2 {
		if i > 0 {
			colons.WriteByte(':')
		}
		colons.WriteString(strings.ToUpper(sum[i : i+2]))
	}
	tests := []struct{ name, text, by string }{
		{"a serial number in hexadecimal", "1234567890", "serial number"},
		{"with colons, in capitals", "12:34:56:78:90", "serial number"},
		{"with zeros in front", "0x001234567890", "serial number"},
		{"in decimal", "78187493520", "serial number"},
		{"another", "1234567891", ""},
		{"a fingerprint", sum, "fingerprint"},
		{"with colons", colons.String(), "fingerprint"},
		{"the digest of its key", c.PublicKey.Fingerprint().String(), "key"},
		{"a name", "tides.tarnholm.example", "name"},
		{"in other letters, with a full stop", "Tides.Tarnholm.Example.", "name"},
		{"a name below its wildcard", "north.quays.tarnholm.example", "name"},
		{"the wildcard itself", "*.quays.tarnholm.example", "name"},
		{"a name that it does not cover", "pilots.tarnholm.example", ""},
		{"a part of its subject", "tide gauge", "subject"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			thing, err := wanted.Parse(tt.text)
			require.NoError(t, err)
			assert.Equal(t, tt.by, thing.Certificate(c))
		})
	}
	_, err := wanted.Parse("  ")
	assert.ErrorIs(t, err, wanted.ErrNothing)
	zero, err := wanted.Parse("0")
	require.NoError(t, err)
	assert.Equal(t, []string{"00"}, zero.Serials)
}

func FuzzParse(f *testing.F) {
	for _, text := range []string{"1234567890", "0x00", "a:b", "tides.tarnholm.example", strings.Repeat("9", 200)} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		thing, err := wanted.Parse(text)
		if err != nil {
			return
		}
		for _, s := range thing.Serials {
			require.Zero(t, len(s)%2)
		}
	})
}
