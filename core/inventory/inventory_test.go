package inventory_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"math/big"
	"net"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/inventory"
)

var from, until = time.Date(2026, 5, 1, 0, 0, 0, 0, time.UTC), time.Date(2026, 11, 16, 0, 0, 0, 0, time.UTC)

func marshal(t *testing.T, value any) []byte {
	t.Helper()
	der, err := asn1.Marshal(value)
	require.NoError(t, err)
	return der
}

func words(e inventory.Entry) map[string]string {
	out := map[string]string{}
	for _, f := range e.Fields {
		out[f.Name] = strings.Join(f.Values, " | ")
	}
	return out
}

// TestEveryField makes a certificate with every extension that is put into words.
func TestEveryField(t *testing.T) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	extra := func(id asn1.ObjectIdentifier, value []byte) pkix.Extension {
		return pkix.Extension{Id: id, Value: value}
	}
	policy := asn1.ObjectIdentifier{2, 999, 1}
	sct := append(make([]byte, 33), 0, 0, 1, 0x8f, 0, 0, 0, 0, 0, 0, 4, 3, 0, 1,
		0) // version, log, milliseconds, signature
	list := append([]byte{0, byte(len(sct) + 2), 0, byte(len(sct))}, sct...)
	template := &x509.Certificate{
		SerialNumber: big.NewInt(4711), Subject: pkix.Name{CommonName: "tides", Organization: []string{"Tarnholm"}},
		NotBefore: from, NotAfter: until,
		DNSNames: []string{"tides.tarnholm.example"}, IPAddresses: []net.IP{{192, 0, 2, 7}},
		EmailAddresses: []string{"office@tarnholm.example"},
		URIs:           []*url.URL{{Scheme: "https", Host: "tarnholm.example"}},
		IsCA:           true, BasicConstraintsValid: true, MaxPathLen: 2,
		KeyUsage:              x509.KeyUsageCertSign | x509.KeyUsageCRLSign,
		ExtKeyUsage:           []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		UnknownExtKeyUsage:    []asn1.ObjectIdentifier{{2, 999, 9}},
		OCSPServer:            []string{"http://ocsp.tarnholm.example"},
		IssuingCertificateURL: []string{"http://ca.tarnholm.example/ca.der"},
		CRLDistributionPoints: []string{"http://crl.tarnholm.example/1"},
		PermittedDNSDomains:   []string{"tarnholm.example"}, ExcludedDNSDomains: []string{"secret.tarnholm.example"},
		ExtraExtensions: []pkix.Extension{
			extra(asn1.ObjectIdentifier{2, 5, 29, 32}, marshal(t, []struct{ ID asn1.ObjectIdentifier }{{policy}})),
			extra(asn1.ObjectIdentifier{2, 5, 29, 33}, marshal(t,
				[]struct{ A, B asn1.ObjectIdentifier }{{policy, asn1.ObjectIdentifier{2, 999, 2}}})),
			extra(asn1.ObjectIdentifier{2, 5, 29, 36}, []byte{0x30, 6, 0x80, 1, 0, 0x81, 1, 3}),
			extra(asn1.ObjectIdentifier{2, 5, 29, 54}, []byte{2, 1, 1}),
			extra(asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 1, 24}, []byte{0x30, 3, 2, 1, 5}),
			extra(asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 11129, 2, 4, 2}, marshal(t, list)),
			extra(asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 48, 1, 5}, []byte{5, 0}),
			extra(asn1.ObjectIdentifier{2, 16, 840, 1, 113730, 1, 13}, append([]byte{0x16, 5}, "hello"...)),
			extra(asn1.ObjectIdentifier{2, 999, 77}, []byte{1, 2, 3}),
		},
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	require.NoError(t, err)
	e := inventory.Of(&facts.Item{Kind: facts.Certificate, DER: der}, nil, true)
	assert.Equal(t, "root certificate", e.What)
	assert.Equal(t, "tides", e.Label)
	assert.Equal(t, []string{"tides.tarnholm.example", "192.0.2.7"}, e.Names)
	got := words(e)
	logOf := "log " + strings.Repeat("A", 43) + "="
	for name, want := range map[string]string{
		"version": "3", "serial number": "1267 (4711)", "valid from": "2026-05-01 00:00:00 UTC",
		"valid until":         "2026-11-16 00:00:00 UTC",
		"signature algorithm": "SHA-256 with ECDSA (1.2.840.10045.4.3.2)",
		"public key":          "EC P-256 (1.2.840.10045.2.1)",
		"subject alternative name (2.5.29.17)": "dns:tides.tarnholm.example | " +
			"email:office@tarnholm.example | ip:192.0.2.7 | uri:https://tarnholm.example",
		"basic constraints (2.5.29.19), critical": "authority, at most 2 authorities below it",
		"key usage (2.5.29.15), critical":         "certificate signing | CRL signing",
		"extended key usage (2.5.29.37)":          "TLS server (1.3.6.1.5.5.7.3.1) | 2.999.9",
		"authority information access (1.3.6.1.5.5.7.1.1)": "OCSP at uri:http://ocsp.tarnholm.example | CA " +
			"issuers at uri:http://ca.tarnholm.example/ca.der",
		"CRL distribution points (2.5.29.31)": "uri:http://crl.tarnholm.example/1",
		"name constraints (2.5.29.30)": "permitted dns:tarnholm.example | excluded " +
			"dns:secret.tarnholm.example",
		"certificate policies (2.5.29.32)": "2.999.1",
		"policy mappings (2.5.29.33)":      "2.999.1 counts as 2.999.2",
		"policy constraints (2.5.29.36)": "a policy is required after 0 more " +
			"certificates | mappings end after 3 more certificates",
		"inhibit anyPolicy (2.5.29.54)":                           "anyPolicy counts for 1 more certificates",
		"TLS feature (1.3.6.1.5.5.7.1.24)":                        "a stapled revocation answer is required",
		"signed certificate timestamps (1.3.6.1.4.1.11129.2.4.2)": logOf + ", 2024-04-21 09:32:31 UTC",
		"OCSP no check (1.3.6.1.5.5.7.48.1.5)":                    "answers of this signer need no check",
		"old comment (2.16.840.1.113730.1.13)":                    "hello",
		"2.999.77":                                                "010203",
	} {
		assert.Equal(t, want, got[name], name)
	}
	for _, f := range e.Fields {
		if strings.Contains(f.Name, "2.5.29") {
			assert.Positive(t, f.Offset, f.Name)
			assert.Equal(t, byte(0x30), der[f.Offset], "an extension begins at its offset")
		}
	}
	assert.Empty(t, inventory.Of(&facts.Item{Kind: facts.Certificate, DER: der}, nil, false).Fields)
}

func TestKinds(t *testing.T) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	spki, err := forge.PublicInfo(key)
	require.NoError(t, err)
	leaf, err := forge.Issue(nil, key, forge.Template{Name: "tides", Names: []string{"tides"}, SPKI: spki, From: from,
		Until: until, Serial: big.NewInt(-1)})
	require.NoError(t, err)
	request, err := x509.CreateCertificateRequest(rand.Reader,
		&x509.CertificateRequest{Subject: pkix.Name{CommonName: "pilots"}, DNSNames: []string{"pilots"}}, key)
	require.NoError(t, err)
	issuer := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Root"},
		KeyUsage: x509.KeyUsageCRLSign, SubjectKeyId: []byte{1}}
	list, err := x509.CreateRevocationList(rand.Reader,
		&x509.RevocationList{Number: big.NewInt(12), ThisUpdate: from, NextUpdate: until,
			RevokedCertificateEntries: []x509.RevocationListEntry{{SerialNumber: big.NewInt(5), RevocationTime: from}}},
		issuer, key)
	require.NoError(t, err)
	tests := []struct {
		name              string
		item              facts.Item
		what, label       string
		fields, anomalies map[string]string
		remarks           []string
	}{
		{"certificate with an anomaly", facts.Item{Kind: facts.Certificate, DER: leaf}, "certificate", "tides",
			map[string]string{"serial number": "-01 (-1)"},
			map[string]string{"serialNumber": "the serial number is negative"}, nil},
		{"anchor of a keystore", facts.Item{Kind: facts.Certificate, DER: leaf, Trusted: true, Unchecked: true},
			"certificate", "tides", nil, nil, []string{"marked as trusted"}},
		{"request", facts.Item{Kind: facts.Request, DER: request}, "certificate request", "pilots",
			map[string]string{"signature": "made with the key inside",
				"attribute":                            "extension request (1.2.840.113549.1.9.14)",
				"subject alternative name (2.5.29.17)": "dns:pilots"}, nil, nil},
		{"revocation list", facts.Item{Kind: facts.RevocationList, DER: list}, "CRL", "Root",
			map[string]string{"revoked certificates": "1", "number of the list": "12",
				"this update": "2026-05-01 00:00:00 UTC"}, nil, nil},
		{"public key", facts.Item{Kind: facts.PublicKey, DER: spki}, "public key", "",
			map[string]string{"public key": "EC P-256 (1.2.840.10045.2.1)"}, nil, nil},
		{"encrypted key", facts.Item{Kind: facts.PrivateKey,
			Key: &facts.Key{SPKI: spki, Structure: "PKCS#8", Encrypted: true, Protection: "PBES2"}},
			"encrypted private key", "", map[string]string{"structure": "PKCS#8", "protection": "PBES2"}, nil, nil},
		{"locked key", facts.Item{Kind: facts.PrivateKey,
			Key: &facts.Key{Structure: "PKCS#8", Encrypted: true, Locked: facts.WrongPassword}},
			"encrypted private key", "", nil, nil, []string{"locked: the password is wrong"}},
		{"key that cannot be computed", facts.Item{Kind: facts.PrivateKey, Key: &facts.Key{Structure: "SEC1"}},
			"private key", "", nil, nil, []string{"its public half cannot be computed here"}},
		{"key that does not agree", facts.Item{Kind: facts.PrivateKey,
			Key: &facts.Key{SPKI: spki, Structure: "SEC1",
				Problems: []facts.Reason{facts.Because(facts.KeyPartsDisagree, "two halves")}}}, "private key", "", nil,
			nil, []string{"inconsistent: two halves"}},
		{"parameters", facts.Item{Kind: facts.Parameters, DER: []byte{6, 8, 0x2a, 0x86, 0x48, 0xce, 0x3d, 3, 1, 7}},
			"parameters", "curve P-256", nil, nil, nil},
		{"secret key", facts.Item{Kind: facts.SecretKey}, "secret key", "", nil, nil, nil},
		{"closed keystore", facts.Item{Kind: facts.Keystore, Container: "PKCS#12", Locked: facts.NoPassword},
			"PKCS#12 keystore", "", nil, nil, []string{"locked: it needs a password, and none was given"}},
		{"empty keystore", facts.Item{Kind: facts.Keystore, Container: "JKS",
			Detail: &facts.Reason{Code: facts.NoEntries}},
			"JKS keystore", "", nil, nil, []string{"it has no entries"}},
		{"encrypted entry of an archive", facts.Item{Kind: facts.Keystore, Container: "zip", Locked: facts.Unsupported},
			"encrypted entry", "", nil, nil, []string{"locked: its protection is not supported"}},
		{"facts that cannot be decoded any more", facts.Item{Kind: facts.Certificate, DER: []byte{1}}, "certificate",
			"", nil, nil,
			[]string{"not a certificate that can be read: at byte 0: it begins with 0x01, a certificate begins " +
				"with 0x30"}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			e := inventory.Of(&tt.item, nil, true)
			assert.Equal(t, tt.what, e.What)
			assert.Equal(t, tt.label, e.Label)
			assert.Equal(t, tt.remarks, e.Remarks)
			for name, want := range tt.fields {
				assert.Equal(t, want, words(e)[name], name)
			}
			for _, a := range e.Anomalies {
				if want, ok := tt.anomalies[a.Field]; ok {
					assert.Equal(t, want, a.Text)
				}
			}
			if tt.anomalies != nil {
				assert.NotEmpty(t, e.Anomalies)
			}
		})
	}
	t.Run("keys are told by whose they are", func(t *testing.T) {
		files := []facts.File{{Items: []facts.Item{{Kind: facts.PrivateKey, Key: &facts.Key{SPKI: spki}},
			{Kind: facts.Certificate, DER: leaf}}}}
		private := inventory.Of(&files[0].Items[0], nil, false)
		inventory.OwnersOf(files, nil).Name(&private)
		assert.Equal(t, "tides", private.Label)
	})
}
