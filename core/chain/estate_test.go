package chain_test

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nurvik/core/forge"
	"nurvik/core/pki"
	"nurvik/core/trust"
)

var now = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)

func newKey(t *testing.T) crypto.Signer {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	return key
}

func parse(t *testing.T, der []byte) *pki.Certificate {
	t.Helper()
	c, err := pki.ParseCertificate(der)
	require.NoError(t, err)
	return c
}

// authority makes an issuing certificate valid around now.
func authority(t *testing.T, issuer *forge.Authority, w forge.Template) *forge.Authority {
	t.Helper()
	if w.From.IsZero() {
		w.From, w.Until = now.AddDate(-2, 0, 0), now.AddDate(5, 0, 0)
	}
	a, err := forge.NewAuthority(issuer, newKey(t), forge.ECDSASHA256, w)
	require.NoError(t, err)
	return a
}

// leaf makes a server certificate valid around now.
func leaf(t *testing.T, issuer *forge.Authority, change func(*forge.Template)) *pki.Certificate {
	t.Helper()
	key := newKey(t)
	spki, err := forge.PublicInfo(key)
	require.NoError(t, err)
	w := forge.Template{Name: "tides.tarnholm.example", Names: []string{"tides.tarnholm.example"}, SPKI: spki,
		From: now.AddDate(0, -1, 0), Until: now.AddDate(0, 5, 0)}
	if change != nil {
		change(&w)
	}
	der, err := forge.Issue(issuer, key, w)
	require.NoError(t, err)
	return parse(t, der)
}

func store(certificates ...*pki.Certificate) *trust.Store {
	var anchors []trust.Anchor
	for _, c := range certificates {
		anchors = append(anchors, trust.Anchor{Certificate: c, Kind: trust.Private})
	}
	return trust.New("inner", anchors)
}
