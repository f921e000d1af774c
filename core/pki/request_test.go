package pki_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"errors"
	"math/big"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/forge"
	"nurvik/core/pki"
)

func TestRequest(t *testing.T) {
	key := must[*ecdsa.PrivateKey](t)(ecdsa.GenerateKey(elliptic.P384(), rand.Reader))
	der := must[[]byte](t)(x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{
		Subject:  pkix.Name{CommonName: "tides.tarnholm.example", Organization: []string{"Tarnholm Harbour Authority"}},
		DNSNames: []string{"tides.tarnholm.example", "ebb.tarnholm.example"}, IPAddresses: []net.IP{{192, 0, 2, 7}},
		ExtraExtensions: []pkix.Extension{{Id: asn1.ObjectIdentifier{2, 5, 29, 15}, Critical: true,
			Value: []byte{3, 2, 7, 0x80}}},
	}, key))
	r := must[*pki.Request](t)(pki.ParseRequest(der))
	assert.Equal(t, "tides.tarnholm.example", r.Label())
	assert.Equal(t, []string{"tides.tarnholm.example", "ebb.tarnholm.example", "192.0.2.7"}, r.Wanted.HostNames())
	assert.Equal(t, []string{"digital signature"}, r.Wanted.KeyUsage.Words())
	assert.Equal(t, "EC P-384", r.PublicKey.String())
	assert.Equal(t, "SHA-384 with ECDSA", r.SignatureAlgorithm.Name)
	assert.Empty(t, r.Anomalies)
	assert.NoError(t, r.CheckSignature())
	brief := r.Brief()
	assert.Equal(t, pki.FingerprintOf(der), brief.SHA256)
	assert.Equal(t, r.PublicKey.Match(), brief.Match())

	changed := append([]byte{}, der...)
	changed[len(changed)-3] ^= 1
	assert.ErrorIs(t, must[*pki.Request](t)(pki.ParseRequest(changed)).CheckSignature(), pki.ErrBadSignature)
	nameless := must[[]byte](t)(x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{}, key))
	assert.Equal(t, "request for a EC P-384 key", must[*pki.Request](t)(pki.ParseRequest(nameless)).Label())
}

// TestRequestDefects builds requests by hand, because libraries write none like these.
func TestRequestDefects(t *testing.T) {
	key := must[*ecdsa.PrivateKey](t)(ecdsa.GenerateKey(elliptic.P256(), rand.Reader))
	spki := asn1.RawValue{FullBytes: must[[]byte](t)(x509.MarshalPKIXPublicKey(key.Public()))}
	name := asn1.RawValue{FullBytes: []byte{0x30, 0}}
	type algorithm struct{ ID asn1.ObjectIdentifier }
	sign := algorithm{asn1.ObjectIdentifier{1, 2, 840, 10045, 4, 3, 2}}
	type attribute struct {
		ID     asn1.ObjectIdentifier
		Values []asn1.RawValue `asn1:"set"`
	}
	type info struct {
		Version    int
		Name, Key  asn1.RawValue
		Attributes []attribute `asn1:"tag:0,set,optional,omitempty"`
	}
	type request struct {
		Info      info
		Algorithm algorithm
		Signature asn1.BitString
	}
	text := asn1.RawValue{Tag: asn1.TagUTF8String, Bytes: []byte("open sesame")}
	for _, tt := range []struct {
		name string
		info info
		want string
	}{
		{"another version", info{Version: 1, Name: name, Key: spki}, "the version number is 1, only 0 is defined"},
		{"attributes missing", info{Name: name, Key: spki}, "the attributes, which may be empty, are missing"},
		{"extensions that are none", info{Name: name, Key: spki,
			Attributes: []attribute{{asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 14}, []asn1.RawValue{text}}}},
			"the extensions asked for are malformed"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			r, err := pki.ParseRequest(marshal(t, request{tt.info, sign,
				asn1.BitString{Bytes: []byte{1}, BitLength: 8}}))
			require.NoError(t, err)
			var texts []string
			for _, a := range r.Anomalies {
				texts = append(texts, a.Text)
			}
			assert.Contains(t, texts, tt.want)
		})
	}
	t.Run("a challenge password is noticed", func(t *testing.T) {
		r, err := pki.ParseRequest(marshal(t, request{info{Name: name, Key: spki,
			Attributes: []attribute{{asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 7}, []asn1.RawValue{text}}}}, sign,
			asn1.BitString{Bytes: []byte{1}, BitLength: 8}}))
		require.NoError(t, err)
		assert.True(t, r.ChallengePassword)
		assert.Equal(t, "challenge password", r.Attributes[0].Words())
	})
	for what, der := range map[string][]byte{"nothing": nil, "a number": {2, 1, 1}, "an empty sequence": {0x30, 0},
		"half of one": marshal(t, request{info{Name: name, Key: spki}, sign, asn1.BitString{}})[:40]} {
		_, err := pki.ParseRequest(der)
		var malformed *pki.MalformedError
		assert.True(t, errors.As(err, &malformed), what)
	}
}

func TestRevocationList(t *testing.T) {
	key := must[*ecdsa.PrivateKey](t)(ecdsa.GenerateKey(elliptic.P256(), rand.Reader))
	issuer := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Root"},
		KeyUsage: x509.KeyUsageCRLSign, SubjectKeyId: []byte{1}}
	this := time.Date(2026, 11, 25, 6, 0, 0, 0, time.UTC)
	for _, count := range []int{0, 1, 300} {
		var entries []x509.RevocationListEntry
		for i := range count {
			entries = append(entries, x509.RevocationListEntry{SerialNumber: big.NewInt(int64(i + 1)),
				RevocationTime: this})
		}
		der := must[[]byte](t)(x509.CreateRevocationList(rand.Reader,
			&x509.RevocationList{Number: big.NewInt(77), ThisUpdate: this, NextUpdate: this.AddDate(0, 0, 7),
				RevokedCertificateEntries: entries}, issuer, key))
		l := must[*pki.RevocationList](t)(pki.ParseRevocationList(der))
		assert.Equal(t, count, len(l.Revoked))
		assert.Equal(t, int64(77), l.Number.Int64())
		assert.Equal(t, "Root", l.Issuer.Label())
		assert.Equal(t, 2, l.Version)
		assert.True(t, l.ThisUpdate.Equal(this))
		assert.True(t, l.NextUpdate.Equal(this.AddDate(0, 0, 7)))
		assert.Empty(t, l.Anomalies)
		_, err := pki.ParseRevocationList(der[:len(der)/2])
		assert.Error(t, err)
	}
}

func TestCertificateSet(t *testing.T) {
	one, two := forged(t, nil), forged(t, func(w *forge.Template) { w.CA = true })
	der := must[[]byte](t)(forge.CertificateSet(one, two))
	set := must[*pki.CertificateSet](t)(pki.ParseCertificateSet(der))
	assert.Equal(t, [][]byte{one, two}, set.Certificates)
	for i, offset := range set.Offsets {
		assert.Equal(t, set.Certificates[i], der[offset:offset+len(set.Certificates[i])], "the offset points at it")
	}
	none := must[*pki.CertificateSet](t)(pki.ParseCertificateSet(must[[]byte](t)(forge.CertificateSet())))
	assert.Empty(t, none.Certificates)
	_, err := pki.ParseCertificateSet(marshal(t, struct{ ID asn1.ObjectIdentifier }{asn1.ObjectIdentifier{1, 2, 840,
		113549, 1, 7, 3}}))
	assert.ErrorContains(t, err, "enveloped data, not signed data")
}

// TestBER reads what older servers write: lengths that are indefinite, strings in pieces.
func TestBER(t *testing.T) {
	for _, tt := range []struct {
		name      string
		ber, want []byte // nil: it must be refused
	}{
		{"definite stays", []byte{0x30, 3, 2, 1, 5}, []byte{0x30, 3, 2, 1, 5}},
		{"indefinite", []byte{0x30, 0x80, 2, 1, 5, 0, 0}, []byte{0x30, 3, 2, 1, 5}},
		{"inside each other", []byte{0x30, 0x80, 0x30, 0x80, 2, 1, 5, 0, 0, 0, 0}, []byte{0x30, 5, 0x30, 3, 2, 1, 5}},
		{"a string in pieces", []byte{0x24, 0x80, 4, 1, 'a', 4, 1, 'b', 0, 0}, []byte{4, 2, 'a', 'b'}},
		{"no end", []byte{0x30, 0x80, 2, 1, 5}, nil},
		{"a primitive without length", []byte{2, 0x80, 0, 0}, nil},
	} {
		t.Run(tt.name, func(t *testing.T) {
			got, err := pki.Definite(tt.ber)
			if tt.want == nil {
				assert.Error(t, err)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, tt.want, got)
		})
	}
}
