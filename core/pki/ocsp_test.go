package pki_test

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"math/big"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ocsp"

	"nurvik/core/pki"
)

// responderWorld is an issuer with one certificate, made by the standard library.
type responderWorld struct {
	key          *ecdsa.PrivateKey
	issuer, leaf *x509.Certificate
}

func newResponderWorld(t testing.TB) responderWorld {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	from := time.Date(2026, 5, 1, 0, 0, 0, 0, time.UTC)
	make := func(name string, serial int64, parent *x509.Certificate) *x509.Certificate {
		template := &x509.Certificate{SerialNumber: big.NewInt(serial), Subject: pkix.Name{CommonName: name},
			NotBefore: from, NotAfter: from.AddDate(1, 0, 0), IsCA: parent == nil, BasicConstraintsValid: true}
		if parent == nil {
			parent = template
		}
		der, err := x509.CreateCertificate(rand.Reader, template, parent, key.Public(), key)
		require.NoError(t, err)
		c, err := x509.ParseCertificate(der)
		require.NoError(t, err)
		return c
	}
	w := responderWorld{key: key, issuer: make("Skerry", 1, nil)}
	w.leaf = make("tides.tarnholm.example", 0x8001, w.issuer)
	return w
}

func TestOCSPResponse(t *testing.T) {
	w := newResponderWorld(t)
	issuer, err := pki.ParseCertificate(w.issuer.Raw)
	require.NoError(t, err)
	leaf, err := pki.ParseCertificate(w.leaf.Raw)
	require.NoError(t, err)
	at := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	tests := []struct {
		name     string
		template ocsp.Response
		status   pki.CertificateStatus
	}{
		{"good", ocsp.Response{Status: ocsp.Good, NextUpdate: at.Add(24 * time.Hour)}, pki.StatusGood},
		{"good for ever", ocsp.Response{Status: ocsp.Good}, pki.StatusGood},
		{"revoked", ocsp.Response{Status: ocsp.Revoked, RevokedAt: at.Add(-time.Hour),
			RevocationReason: ocsp.KeyCompromise, NextUpdate: at.Add(time.Hour)}, pki.StatusRevoked},
		{"unknown", ocsp.Response{Status: ocsp.Unknown, NextUpdate: at.Add(time.Hour)}, pki.StatusUnknown},
		{"SHA-256", ocsp.Response{Status: ocsp.Good, IssuerHash: crypto.SHA256}, pki.StatusGood},
		{"with the signer's certificate", ocsp.Response{Status: ocsp.Good, Certificate: w.issuer}, pki.StatusGood},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			tt.template.SerialNumber, tt.template.ThisUpdate = w.leaf.SerialNumber, at
			der, err := ocsp.CreateResponse(w.issuer, w.issuer, tt.template, w.key)
			require.NoError(t, err)
			r, err := pki.ParseOCSPResponse(der)
			require.NoError(t, err)
			assert.Empty(t, r.Anomalies)
			require.Len(t, r.Answers, 1)
			a := r.Answers[0]
			assert.Equal(t, tt.status, a.Status)
			assert.True(t, a.Concerns(leaf, issuer))
			assert.False(t, a.Concerns(issuer, issuer))
			assert.Equal(t, at, a.ThisUpdate)
			assert.True(t, a.Expires.Equal(tt.template.NextUpdate), "%v", a.Expires)
			assert.True(t, r.SignedAs(issuer))
			assert.NoError(t, r.CheckSignedBy(issuer.PublicKey))
			assert.Equal(t, tt.template.Certificate != nil, len(r.Certificates) == 1)
			if tt.status == pki.StatusRevoked {
				assert.Equal(t, pki.KeyCompromise, a.Reason)
				assert.Equal(t, at.Add(-time.Hour), a.RevokedAt)
			}
			r.RawTBS[len(r.RawTBS)-1] ^= 1
			assert.ErrorIs(t, r.CheckSignedBy(issuer.PublicKey), pki.ErrBadSignature)
		})
	}
	t.Run("a refusal holds no answer", func(t *testing.T) {
		r, err := pki.ParseOCSPResponse(ocsp.UnauthorizedErrorResponse)
		require.NoError(t, err)
		assert.Equal(t, "unauthorized", r.Status.Words())
	})
	t.Run("requests are read by others", func(t *testing.T) {
		request, err := ocsp.ParseRequest(pki.OCSPRequest(leaf, issuer, nil))
		require.NoError(t, err)
		assert.Zero(t, request.SerialNumber.Cmp(w.leaf.SerialNumber))
		usual, err := ocsp.CreateRequest(w.leaf, w.issuer, nil)
		require.NoError(t, err)
		assert.Equal(t, usual, pki.OCSPRequest(leaf, issuer, nil))
		assert.Contains(t, string(pki.OCSPRequest(leaf, issuer, []byte("sixteen nonce byt"))), "sixteen nonce byt")
	})
}

// FuzzParseOCSPResponse looks for crashes and for disagreement about what a responder says.
func FuzzParseOCSPResponse(f *testing.F) {
	w := newResponderWorld(f)
	for _, status := range []int{ocsp.Good, ocsp.Revoked, ocsp.Unknown} {
		der, err := ocsp.CreateResponse(w.issuer, w.issuer,
			ocsp.Response{Status: status, SerialNumber: big.NewInt(7), ThisUpdate: time.Unix(1.7e9, 0),
				RevokedAt: time.Unix(1.6e9, 0), Certificate: w.issuer}, w.key)
		require.NoError(f, err)
		f.Add(der)
		f.Add(der[:len(der)/2])
	}
	f.Add(ocsp.TryLaterErrorResponse)
	words := map[int]pki.CertificateStatus{ocsp.Good: pki.StatusGood, ocsp.Revoked: pki.StatusRevoked,
		ocsp.Unknown: pki.StatusUnknown}
	f.Fuzz(func(t *testing.T, der []byte) {
		r, err := pki.ParseOCSPResponse(der)
		std, stdErr := ocsp.ParseResponse(der, nil)
		if err != nil {
			// No oracle: encoding/asn1 passes over the length of explicit tags, even where it
			// disagrees with what is inside.
			require.ErrorIs(t, err, pki.ErrMalformed)
			return
		}
		_ = r.Status.Words()
		switch {
		case stdErr != nil:
		case len(r.Anomalies) == 0:
			require.NotEmpty(t, r.Answers)
			assert.Equal(t, words[std.Status], r.Answers[0].Status)
		case len(r.Answers) == 0: // encoding/asn1 reads past the end of an answer that is too short
			assert.True(t, slices.ContainsFunc(r.Anomalies,
				func(a pki.Anomaly) bool { return a.Text == "an answer is malformed" }), "%v", r.Anomalies)
		}
	})
}
