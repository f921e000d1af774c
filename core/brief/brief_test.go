package brief_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/brief"
	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/pki"
)

func TestMemory(t *testing.T) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	now := time.Now()
	root, err := forge.NewAuthority(nil, key, forge.ECDSASHA256,
		forge.Template{Name: "Root", From: now, Until: now.Add(time.Hour)})
	require.NoError(t, err)
	spki, err := forge.PublicInfo(key)
	require.NoError(t, err)

	for name, m := range map[string]*brief.Memory{"with a memory": {}, "without one": nil} {
		t.Run(name, func(t *testing.T) {
			_, first, err := m.Certificate(root.DER)
			require.NoError(t, err)
			shared, again, err := m.Certificate(slices.Clone(root.DER))
			require.NoError(t, err)
			assert.Equal(t, first, again)
			assert.Equal(t, m != nil, first == again, "decoded once")
			assert.Equal(t, m != nil, &shared[0] == &root.DER[0], "and kept once")
			assert.Equal(t, "Root", first.Label)
			assert.True(t, first.CA && first.SelfIssued)

			of := m.Of(&facts.Item{Kind: facts.PrivateKey, Key: &facts.Key{SPKI: spki}})
			require.NotNil(t, of)
			assert.Equal(t, first.Match(), of.Match(), "the key of the certificate")
			assert.Equal(t, pki.Fingerprint{}, of.SHA256, "a key has no certificate's fingerprint")
		})
	}
	m := &brief.Memory{}
	for name, item := range map[string]facts.Item{
		"a locked key":    {Kind: facts.PrivateKey, Key: &facts.Key{}},
		"a keystore":      {Kind: facts.Keystore},
		"nonsense":        {Kind: facts.Certificate, DER: []byte{1, 2}},
		"of another kind": {Kind: facts.Request, DER: root.DER},
	} {
		assert.Nil(t, m.Of(&item), name)
	}
}
