package pki_test

import (
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"math/big"
	"net"
	"net/url"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/forge"
	"nurvik/core/pki"
)

// full makes a certificate with every standard extension, written by the standard library.
func full(t *testing.T) []byte {
	t.Helper()
	key := newKey(t)
	uri, err := url.Parse("https://tides.tarnholm.example/now")
	require.NoError(t, err)
	_, permitted, err := net.ParseCIDR("192.0.2.0/24")
	require.NoError(t, err)
	policy, err := x509.OIDFromInts([]uint64{2, 23, 140, 1, 2, 1})
	require.NoError(t, err)
	template := &x509.Certificate{
		SerialNumber: big.NewInt(0x1f2e3d), Subject: pkix.Name{CommonName: "Tide Office",
			Organization: []string{"Tarnholm Harbour Authority"}},
		NotBefore: from, NotAfter: until,
		DNSNames:       []string{"tides.tarnholm.example", "*.tarnholm.example"},
		IPAddresses:    []net.IP{net.ParseIP("192.0.2.7").To4(), net.ParseIP("2001:db8::7")},
		EmailAddresses: []string{"tides@tarnholm.example"}, URIs: []*url.URL{uri},
		BasicConstraintsValid: true, IsCA: true, MaxPathLen: 1,
		KeyUsage:     x509.KeyUsageCertSign | x509.KeyUsageCRLSign,
		ExtKeyUsage:  []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth},
		SubjectKeyId: []byte{1, 2, 3}, AuthorityKeyId: []byte{4, 5, 6},
		OCSPServer:            []string{"http://answers.tarnholm.example"},
		IssuingCertificateURL: []string{"http://issuers.tarnholm.example/inner.der"},
		CRLDistributionPoints: []string{"http://lists.tarnholm.example/inner.crl"},
		Policies:              []x509.OID{policy},
		PermittedDNSDomains:   []string{"tarnholm.example"}, ExcludedDNSDomains: []string{"old.tarnholm.example"},
		PermittedIPRanges:           []*net.IPNet{permitted},
		PermittedDNSDomainsCritical: true,
		ExtraExtensions:             []pkix.Extension{{Id: asn1.ObjectIdentifier{2, 999, 1}, Value: []byte{5, 0}}},
	}
	raw, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	require.NoError(t, err)
	return raw
}

func TestEveryStandardExtension(t *testing.T) {
	c, err := pki.ParseCertificate(full(t))
	require.NoError(t, err)
	assert.Empty(t, c.Anomalies)

	var names []string
	for _, n := range c.AltNames {
		names = append(names, n.String())
	}
	assert.Equal(t, []string{"dns:tides.tarnholm.example", "dns:*.tarnholm.example", "email:tides@tarnholm.example",
		"ip:192.0.2.7", "ip:2001:db8::7", "uri:https://tides.tarnholm.example/now"}, names)
	assert.Equal(t, []string{"tides.tarnholm.example", "*.tarnholm.example", "192.0.2.7", "2001:db8::7"}, c.HostNames())

	require.NotNil(t, c.BasicConstraints)
	assert.True(t, c.IsCA())
	assert.Equal(t, 1, *c.BasicConstraints.PathLength)
	assert.Equal(t, []string{"certificate signing", "CRL signing"}, c.KeyUsage.Words())
	assert.Equal(t, []pki.OID{pki.UsageServerAuth, "1.3.6.1.5.5.7.3.2"}, c.ExtKeyUsage)
	assert.Equal(t, []byte{1, 2, 3}, c.SubjectKeyID)
	assert.Equal(t, []string{"http://answers.tarnholm.example"}, c.URLs(pki.AccessOCSP))
	assert.Equal(t, []string{"http://issuers.tarnholm.example/inner.der"}, c.URLs(pki.AccessCAIssuers))
	assert.Equal(t, []string{"http://lists.tarnholm.example/inner.crl"}, listURLs(c))
	assert.Equal(t, []pki.OID{"2.23.140.1.2.1"}, c.Policies)

	require.NotNil(t, c.NameConstraints)
	assert.Equal(t, "dns:tarnholm.example", c.NameConstraints.Permitted[0].String())
	assert.Equal(t, "ip:192.0.2.0/24", c.NameConstraints.Permitted[1].String())
	assert.Equal(t, "dns:old.tarnholm.example", c.NameConstraints.Excluded[0].String())

	last := c.Extensions[len(c.Extensions)-1]
	assert.Equal(t, pki.OID("2.999.1"), last.ID, "what is not known is kept raw")
	assert.Equal(t, []byte{5, 0}, last.Value)
	assert.Empty(t, c.UnknownCritical(), "it is not critical")
}

func TestDescription(t *testing.T) {
	c, err := pki.ParseCertificate(full(t))
	require.NoError(t, err)
	d := c.Describe()
	assert.Equal(t, "1f2e3d", d.Serial)
	assert.Equal(t, "Tide Office", d.Label)
	assert.Equal(t, "SHA-256 with ECDSA", d.Signature)
	assert.Equal(t, []string{"TLS server", "TLS client"}, d.ExtendedKeyUsage)
	assert.Equal(t, "010203", d.SubjectKeyID)
	assert.Equal(t, c.Fingerprint(), d.SHA256)
}

func TestFingerprintText(t *testing.T) {
	f := pki.FingerprintOf([]byte("tide"))
	for name, text := range map[string]string{"plain": f.String(), "upper case with colons": upperColons(f.String())} {
		got, err := pki.ParseFingerprint(text)
		require.NoError(t, err, name)
		assert.Equal(t, f, got, name)
	}
	for _, wrong := range []string{"", "abc", f.String()[:62], f.String() + "00", "zz" + f.String()[2:]} {
		_, err := pki.ParseFingerprint(wrong)
		assert.Error(t, err, wrong)
	}
}

func upperColons(text string) string {
	out := ""
	for i := 0; i < len(text); i += 2 {
		if i > 0 {
			out += ":"
		}
		for _, r := range text[i : i+2] {
			if r >= 'a' {
				r -= 'a' - 'A'
			}
			out += string(r)
		}
	}
	return out
}

// TestHostileNames shows that nothing of a certificate reaches people unclean.
func TestHostileNames(t *testing.T) {
	c, err := pki.ParseCertificate(forged(t, func(w *forge.Template) {
		w.Name, w.Names = "\x1b]0;owned\a\x00\u202e", []string{"\x1b[2J.example"}
	}))
	require.NoError(t, err)
	d := c.Describe()
	for _, text := range append([]string{d.Subject, d.Label, d.IssuerName, d.Issuer}, d.Names...) {
		for _, r := range text {
			assert.False(t, unicode.IsControl(r) || unicode.Is(unicode.Cf, r), "%q", text)
		}
	}
	assert.Contains(t, d.Subject, `\1B]0\;owned\07\00`, "the whole name keeps them, escaped")
}
