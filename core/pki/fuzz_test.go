package pki_test

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"math/big"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/forge"
	"nurvik/core/pki"
)

// FuzzParseCertificate looks for crashes, for offsets that lie outside, and
// for disagreement with the standard library on what that one accepts.
func FuzzParseCertificate(f *testing.F) {
	f.Add(forged(f, nil))
	f.Add(forged(f, func(w *forge.Template) { w.Serial = big.NewInt(-1) }))
	f.Add(forged(f, func(w *forge.Template) { w.CA, w.Names = true, []string{"192.0.2.1", "*.tarnholm.example"} }))
	f.Add([]byte{0x30, 0x80, 0, 0})
	f.Add([]byte{})
	f.Fuzz(func(t *testing.T, der []byte) {
		c, err := pki.ParseCertificate(der)
		std, stdErr := x509.ParseCertificate(der)
		if err != nil {
			require.Error(t, stdErr, "the standard library reads what we do not: %v", err)
			return
		}
		for _, a := range c.Anomalies {
			require.True(t, a.Offset >= 0 && a.Offset <= len(der), "offset %d of %d", a.Offset, len(der))
		}
		require.True(t, bytes.HasPrefix(der, c.Raw))
		_, err = json.Marshal(c.Describe())
		require.NoError(t, err)
		_ = c.CheckSignedBy(c.PublicKey)
		if stdErr == nil {
			assert.Equal(t, std.RawSubject, c.Subject.Raw)
			assert.Zero(t, std.SerialNumber.Cmp(c.Serial))
			assert.True(t, std.NotAfter.Equal(c.NotAfter), "%v %v", std.NotAfter, c.NotAfter)
			assert.Equal(t, std.BasicConstraintsValid && std.IsCA, c.BasicConstraints != nil && c.IsCA())
		}
	})
}

// FuzzParseRequest holds the requests that the standard library reads to be read here too, with the same key and names.
func FuzzParseRequest(f *testing.F) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(f, err)
	for _, names := range [][]string{nil, {"tides.tarnholm.example"}} {
		der, err := x509.CreateCertificateRequest(rand.Reader,
			&x509.CertificateRequest{Subject: pkix.Name{CommonName: "tides"}, DNSNames: names}, key)
		require.NoError(f, err)
		f.Add(der)
		f.Add(der[:len(der)-9])
	}
	f.Fuzz(func(t *testing.T, der []byte) {
		r, err := pki.ParseRequest(der)
		std, stdErr := x509.ParseCertificateRequest(der)
		if err != nil {
			require.Error(t, stdErr, "the standard library reads what we do not: %v", err)
			return
		}
		_, _ = r.Label(), r.Brief()
		signature := r.CheckSignature()
		if stdErr == nil {
			assert.Equal(t, std.RawSubjectPublicKeyInfo, r.PublicKey.Raw)
			if std.CheckSignature() == nil {
				assert.NoError(t, signature)
			}
		}
	})
}

// FuzzParseRevocationList does the same for revocation lists.
func FuzzParseRevocationList(f *testing.F) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(f, err)
	issuer := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Root"},
		KeyUsage: x509.KeyUsageCRLSign, SubjectKeyId: []byte{1}}
	issued := time.Date(2026, 11, 25, 0, 0, 0, 0, time.UTC)
	entries := []x509.RevocationListEntry{{SerialNumber: big.NewInt(5), RevocationTime: issued}}
	der, err := x509.CreateRevocationList(rand.Reader, &x509.RevocationList{Number: big.NewInt(12), ThisUpdate: issued,
		NextUpdate: issued.AddDate(0, 0, 7), RevokedCertificateEntries: entries}, issuer, key)
	require.NoError(f, err)
	f.Add(der)
	f.Add(der[:40])
	f.Fuzz(func(t *testing.T, der []byte) {
		l, err := pki.ParseRevocationList(der)
		std, stdErr := x509.ParseRevocationList(der)
		if err != nil {
			require.Error(t, stdErr, "the standard library reads what we do not: %v", err)
			return
		}
		if stdErr == nil {
			assert.Len(t, std.RevokedCertificateEntries, len(l.Revoked))
			assert.True(t, std.ThisUpdate.Equal(l.ThisUpdate))
		}
	})
}

// FuzzPrivateKeys reads every structure of private keys; the public half that
// comes out is one that can be read.
func FuzzPrivateKeys(f *testing.F) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(f, err)
	sec1, err := x509.MarshalECPrivateKey(key)
	require.NoError(f, err)
	pkcs8, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(f, err)
	own, err := rsa.GenerateKey(rand.Reader, 1024)
	require.NoError(f, err)
	for _, seed := range [][]byte{sec1, pkcs8, pkcs8[:30], x509.MarshalPKCS1PrivateKey(own), {0x30, 3, 2, 1, 0}} {
		f.Add(seed)
	}
	curves, err := filepath.Glob("testdata/curves/*.pem")
	require.NoError(f, err)
	for _, path := range curves {
		rest, err := os.ReadFile(path)
		require.NoError(f, err)
		for block, rest := pem.Decode(rest); block != nil; block, rest = pem.Decode(rest) {
			f.Add(block.Bytes)
		}
	}
	f.Fuzz(func(t *testing.T, der []byte) {
		for _, parse := range []func([]byte) (*pki.PrivateKey, error){pki.ParsePKCS8, pki.ParsePKCS1, pki.ParseSEC1,
			pki.ParseDSA} {
			k, err := parse(der)
			if err != nil {
				require.ErrorIs(t, err, pki.ErrNoKey)
				continue
			}
			if k.Comparable() {
				_, err := pki.ParsePublicKey(k.Public.Raw)
				require.NoError(t, err)
			}
		}
		_, _ = pki.ParsePublicKey(der)
	})
}

// FuzzParseCertificateSet reads PKCS#7 and what BER allows around it.
func FuzzParseCertificateSet(f *testing.F) {
	der, err := forge.CertificateSet(forged(f, nil), forged(f, nil))
	require.NoError(f, err)
	f.Add(der)
	f.Add(der[:len(der)/2])
	f.Add([]byte{0x30, 0x80, 0x06, 0x01, 0x01, 0, 0})
	f.Fuzz(func(t *testing.T, der []byte) {
		set, _ := pki.ParseCertificateSet(der)
		if set != nil {
			require.Len(t, set.Offsets, len(set.Certificates))
		}
		if whole, err := pki.Definite(der); err == nil {
			require.LessOrEqual(t, len(whole), 2*len(der)+16)
		}
	})
}
