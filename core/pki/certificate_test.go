package pki_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	encodingasn1 "encoding/asn1"
	"encoding/pem"
	"math/big"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/cryptobyte"
	"golang.org/x/crypto/cryptobyte/asn1"

	"nurvik/core/forge"
	"nurvik/core/pki"
)

var (
	from  = time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	until = time.Date(2027, 5, 18, 23, 59, 59, 0, time.UTC)
)

func newKey(t testing.TB) *ecdsa.PrivateKey {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	return key
}

// forged makes a self-signed leaf after the change.
func forged(t testing.TB, change func(*forge.Template)) []byte {
	t.Helper()
	key := newKey(t)
	spki, err := forge.PublicInfo(key)
	require.NoError(t, err)
	w := forge.Template{Name: "tides.tarnholm.example", Names: []string{"tides.tarnholm.example"}, SPKI: spki,
		From: from, Until: until}
	if change != nil {
		change(&w)
	}
	der, err := forge.Issue(nil, key, w)
	require.NoError(t, err)
	return der
}

func TestSoundCertificateHasNoAnomaly(t *testing.T) {
	c, err := pki.ParseCertificate(forged(t, nil))
	require.NoError(t, err)
	assert.Empty(t, c.Anomalies)
	assert.Equal(t, 3, c.Version)
	assert.Equal(t, "O=Tarnholm Harbour Authority, CN=tides.tarnholm.example", c.Subject.String())
	assert.Equal(t, from, c.NotBefore)
	assert.Equal(t, until, c.NotAfter)
	assert.Equal(t, []string{"tides.tarnholm.example"}, c.HostNames())
	assert.Equal(t, "EC P-256", c.PublicKey.String())
	assert.Equal(t, []string{"digital signature"}, c.KeyUsage.Words())
	assert.False(t, c.IsCA())
	assert.NoError(t, c.CheckSignedBy(c.PublicKey))
}

// TestAgreesWithStandardLibrary decodes every certificate of the system's
// bundle and compares with the standard library, which is a second opinion.
func TestAgreesWithStandardLibrary(t *testing.T) {
	data, err := os.ReadFile("/etc/ssl/certs/ca-certificates.crt")
	require.NoError(t, err, "the package ca-certificates is needed")
	count := 0
	for block, rest := pem.Decode(data); block != nil; block, rest = pem.Decode(rest) {
		count++
		c, err := pki.ParseCertificate(block.Bytes)
		require.NoError(t, err)
		std, err := x509.ParseCertificate(block.Bytes)
		require.NoError(t, err)
		name := c.Label()
		assert.Equal(t, std.RawSubject, c.Subject.Raw, name)
		assert.Equal(t, std.RawIssuer, c.Issuer.Raw, name)
		assert.Equal(t, std.Subject.CommonName, c.Subject.CommonName(), name)
		assert.Equal(t, std.Subject.Organization, organisations(c.Subject), name)
		assert.Equal(t, std.DNSNames, c.DNSNames(), name)
		assert.True(t, std.NotBefore.Equal(c.NotBefore) && std.NotAfter.Equal(c.NotAfter), name)
		assert.Zero(t, std.SerialNumber.Cmp(c.Serial), name)
		assert.Equal(t, std.RawSubjectPublicKeyInfo, c.PublicKey.Raw, name)
		assert.Equal(t, std.SubjectKeyId, c.SubjectKeyID, name)
		assert.Equal(t, std.AuthorityKeyId, c.AuthorityKeyID, name)
		assert.Equal(t, std.Version, c.Version, name)
		assert.Equal(t, std.IsCA, c.IsCA(), name)
		assert.Equal(t, std.KeyUsage, x509.KeyUsage(c.KeyUsage), name)
		assert.Equal(t, std.CRLDistributionPoints, listURLs(c), name)
		if std.CheckSignatureFrom(std) == nil {
			assert.NoError(t, c.CheckSignedBy(c.PublicKey), name)
		}
	}
	assert.Greater(t, count, 100, "the bundle is empty or was cut")
}

func organisations(n pki.Name) []string {
	var out []string
	for _, component := range n.Components {
		for _, a := range component {
			if a.Type == "2.5.4.10" {
				out = append(out, a.Value)
			}
		}
	}
	return out
}

func listURLs(c *pki.Certificate) []string {
	var out []string
	for _, p := range c.CRLDistributionPoints {
		for _, n := range p.FullName {
			out = append(out, n.Value)
		}
	}
	return out
}

// der builds one element.
func der(build func(*cryptobyte.Builder)) []byte {
	var b cryptobyte.Builder
	build(&b)
	return b.BytesOrPanic()
}

func validity(notBefore, notAfter string, tags ...asn1.Tag) []byte {
	return der(func(b *cryptobyte.Builder) {
		b.AddASN1(asn1.SEQUENCE, func(s *cryptobyte.Builder) {
			for i, text := range []string{notBefore, notAfter} {
				tag := asn1.UTCTime
				if i < len(tags) {
					tag = tags[i]
				}
				s.AddASN1(tag, func(v *cryptobyte.Builder) { v.AddBytes([]byte(text)) })
			}
		})
	})
}

func subjectOf(tag asn1.Tag, value []byte) []byte {
	return der(func(b *cryptobyte.Builder) {
		b.AddASN1(asn1.SEQUENCE, func(s *cryptobyte.Builder) {
			s.AddASN1(asn1.SET, func(set *cryptobyte.Builder) {
				set.AddASN1(asn1.SEQUENCE, func(pair *cryptobyte.Builder) {
					pair.AddASN1ObjectIdentifier(encodingasn1.ObjectIdentifier{2, 5, 4, 3})
					pair.AddASN1(tag, func(v *cryptobyte.Builder) { v.AddBytes(value) })
				})
			})
		})
	})
}

func TestAnomalies(t *testing.T) {
	instead := func(part forge.Part, der []byte) func(*forge.Template) {
		return func(w *forge.Template) { w.Instead = map[forge.Part][]byte{part: der} }
	}
	extra := func(id encodingasn1.ObjectIdentifier, value []byte) func(*forge.Template) {
		return func(w *forge.Template) { w.Extra = []forge.Extension{{ID: id, Value: value}} }
	}
	san, usage, basic := encodingasn1.ObjectIdentifier{2, 5, 29, 17}, encodingasn1.ObjectIdentifier{2, 5, 29, 15},
		encodingasn1.ObjectIdentifier{2, 5, 29, 19}
	tests := []struct {
		name   string
		change func(*forge.Template)
		field  string
		text   string
	}{
		{"negative serial", func(w *forge.Template) { w.Serial = big.NewInt(-5) }, "serialNumber", "negative"},
		{"serial zero", instead(forge.Serial, []byte{2, 1, 0}), "serialNumber", "zero"},
		{"empty serial", instead(forge.Serial, []byte{2, 0}), "serialNumber", "empty"},
		{"serial of 21 bytes", func(w *forge.Template) { w.Serial = new(big.Int).Lsh(big.NewInt(1), 160) },
			"serialNumber", "at most 20"},
		{"serial not in shortest form", instead(forge.Serial, []byte{2, 2, 0, 1}), "serialNumber", "shortest"},
		{"time without seconds", instead(forge.Validity, validity("2611010000Z", "270518235959Z")), "notBefore",
			"without fraction"},
		{"time with an offset", instead(forge.Validity, validity("261101000000+0100", "270518235959Z")), "notBefore",
			"in UTC"},
		{"no time at all", instead(forge.Validity, validity("261301000000Z", "270518235959Z")), "notBefore",
			"is no time"},
		{"generalized time before 2050", instead(forge.Validity,
			validity("20261101000000Z", "270518235959Z", asn1.GeneralizedTime)), "notBefore", "before 2050"},
		{"time with a fraction", instead(forge.Validity,
			validity("20261101000000.5Z", "270518235959Z", asn1.GeneralizedTime)), "notBefore", "fraction"},
		{"ends before it begins", instead(forge.Validity, validity("270518235959Z", "261101000000Z")), "validity",
			"before it begins"},
		{"PrintableString with an asterisk", instead(forge.Subject,
			subjectOf(asn1.PrintableString, []byte("*.tarnholm"))), "subject", "PrintableString"},
		{"UTF8String that is no UTF-8", instead(forge.Subject, subjectOf(asn1.UTF8String, []byte{0xff, 0xfe})),
			"subject", "UTF-8"},
		{"name that is a number", instead(forge.Subject, subjectOf(asn1.INTEGER, []byte{7})), "subject", "no string"},
		{"BMPString of odd length", instead(forge.Subject, subjectOf(30, []byte{0, 'a', 0})), "subject", "odd number"},
		{"bytes after the extensions", instead(forge.Tail, []byte{5, 0}), "tbsCertificate", "follow the end"},
		{"version 7", instead(forge.Version, []byte{0xa0, 3, 2, 1, 6}), "version", "version number 6"},
		{"extensions in version 1", instead(forge.Version, nil), "extensions", "version 1"},
		{"doubled extension", extra(basic, []byte{0x30, 0}), "extensions", "more than once"},
		{"default written out", func(w *forge.Template) {
			w.Extra = []forge.Extension{{ID: encodingasn1.ObjectIdentifier{2, 5, 29, 37}, Value: []byte{0x30, 0}}}
		}, "extensions", "more than once"},
		{"bytes after an extension's value", func(w *forge.Template) {
			w.Names = nil
			w.Extra = []forge.Extension{{ID: san, Value: append(der(func(b *cryptobyte.Builder) {
				b.AddASN1(asn1.SEQUENCE, func(s *cryptobyte.Builder) {
					s.AddASN1(asn1.Tag(2).ContextSpecific(),
						func(v *cryptobyte.Builder) { v.AddBytes([]byte("a.example")) })
				})
			}), 1, 2)}}
		}, "subjectAltName", "2 bytes follow"},
		{"address of 5 bytes", func(w *forge.Template) {
			w.Names = nil
			w.Extra = []forge.Extension{{ID: san, Value: []byte{0x30, 7, 0x87, 5, 1, 2, 3, 4, 5}}}
		}, "subjectAltName", "5 bytes instead of 4 or 16"},
		{"alternative name with umlaut", func(w *forge.Template) {
			w.Names = nil
			w.Extra = []forge.Extension{{ID: san, Value: []byte{0x30, 4, 0x82, 2, 0xc3, 0xa4}}}
		}, "subjectAltName", "must be ASCII"},
		{"no alternative name in the extension", func(w *forge.Template) {
			w.Names = nil
			w.Extra = []forge.Extension{{ID: san, Value: []byte{0x30, 0}}}
		}, "subjectAltName", "lists no name"},
		{"malformed alternative names", func(w *forge.Template) {
			w.Names = nil
			w.Extra = []forge.Extension{{ID: san, Value: []byte{4, 0}}}
		}, "subjectAltName", "malformed"},
		{"key usage doubled", extra(usage, []byte{3, 2, 7, 0x80}), "extensions", "more than once"},
		{"key with wrong point length", func(w *forge.Template) {
			w.SPKI = append(append([]byte{}, w.SPKI[:len(w.SPKI)-65]...), w.SPKI[len(w.SPKI)-65:]...)
			w.SPKI[len(w.SPKI)-65] = 9
		}, "subjectPublicKeyInfo", "point"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			raw := forged(t, tt.change)
			c, err := pki.ParseCertificate(raw)
			require.NoError(t, err, "a defect must not end the decoding")
			require.NotEmpty(t, c.Anomalies)
			found := false
			for _, a := range c.Anomalies {
				assert.True(t, a.Offset > 0 && a.Offset <= len(raw), "offset %d lies in the certificate", a.Offset)
				assert.NotEmpty(t, a.Source)
				if a.Field == tt.field {
					found = found || strings.Contains(a.Text, tt.text)
				}
			}
			assert.True(t, found, "wanted %q in %s, got %+v", tt.text, tt.field, c.Anomalies)
			assert.NotEmpty(t, c.PublicKey.Raw, "what follows the defect is read")
		})
	}
}

func TestAnomalyOffsetsPointAtTheDefect(t *testing.T) {
	raw := forged(t, func(w *forge.Template) { w.Serial = big.NewInt(-2) })
	c, err := pki.ParseCertificate(raw)
	require.NoError(t, err)
	require.Len(t, c.Anomalies, 1)
	assert.Equal(t, []byte{2, 1, 0xfe}, raw[c.Anomalies[0].Offset:c.Anomalies[0].Offset+3])
}

func TestLongFormLengthIsReadAndNoted(t *testing.T) {
	// The serial 5 with its length in two bytes, which DER forbids.
	c, err := pki.ParseCertificate(forged(t,
		func(w *forge.Template) { w.Instead = map[forge.Part][]byte{forge.Serial: {2, 0x81, 1, 5}} }))
	require.NoError(t, err)
	assert.Equal(t, int64(5), c.Serial.Int64())
	require.NotEmpty(t, c.Anomalies)
	assert.Contains(t, c.Anomalies[0].Text, "shortest form")
}

func TestTrailingBytesAreNoPartOfTheCertificate(t *testing.T) {
	raw := forged(t, nil)
	c, err := pki.ParseCertificate(append(append([]byte{}, raw...), 1, 2, 3))
	require.NoError(t, err)
	assert.Equal(t, pki.FingerprintOf(raw), c.Fingerprint())
	require.Len(t, c.Anomalies, 1)
	assert.Equal(t, len(raw), c.Anomalies[0].Offset)
}

func TestUnreadable(t *testing.T) {
	raw := forged(t, nil)
	tests := []struct {
		name   string
		der    []byte
		reason string
	}{
		{"nothing", nil, "there are no bytes"},
		{"text", []byte("hello"), "begins with 0x68"},
		{"indefinite length", []byte{0x30, 0x80, 0, 0}, "indefinite"},
		{"cut off", raw[:len(raw)/2], "cut off"},
		{"empty sequence", []byte{0x30, 0}, "missing"},
		{"length beyond any memory", []byte{0x30, 0x84, 0xff, 0xff, 0xff, 0xff}, "cut off"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			_, err := pki.ParseCertificate(tt.der)
			require.ErrorIs(t, err, pki.ErrMalformed)
			assert.ErrorContains(t, err, tt.reason)
		})
	}
}
