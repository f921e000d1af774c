package judge_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/judge"
)

// TestRequests: what a CA would refuse, and what the certificate would not cover. The harbour has the rest.
func TestRequests(t *testing.T) {
	s := newScene(t)
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	for name, tt := range map[string]struct {
		change func(*x509.CertificateRequest)
		needed []string
		want   []string
	}{
		"fit to be sent":       {nil, []string{host}, nil},
		"a name that is asked": {nil, []string{host, "tarnholm.example"}, []string{"name.uncovered fault"}},
		"a country in small letters": {func(w *x509.CertificateRequest) { w.Subject.Country = []string{"no"} }, nil,
			[]string{"request.country risk"}},
		"a country that is none": {func(w *x509.CertificateRequest) { w.Subject.Country = []string{"XX"} }, nil,
			[]string{"request.country risk"}},
		"a country": {func(w *x509.CertificateRequest) { w.Subject.Country = []string{"NO"} }, nil, nil},
		"exactly 64": {func(w *x509.CertificateRequest) { w.Subject.Organization = []string{strings.Repeat("ø", 64)} },
			nil,
			nil},
		"65": {func(w *x509.CertificateRequest) { w.Subject.Organization = []string{strings.Repeat("ø", 65)} }, nil,
			[]string{"request.field-length risk"}},
		"a space at the end": {func(w *x509.CertificateRequest) { w.Subject.Locality = []string{"Tarnholm "} }, nil,
			[]string{"request.characters risk"}},
		"a wildcard with its base": {func(w *x509.CertificateRequest) {
			w.DNSNames = append(w.DNSNames, "*.quays.example", "quays.example")
		}, nil, nil},
		"a wildcard alone": {func(w *x509.CertificateRequest) { w.DNSNames = append(w.DNSNames, "*.quays.example") },
			nil,
			[]string{"request.base-name-missing risk"}},
		"a wildcard under a suffix": {func(w *x509.CertificateRequest) { w.DNSNames = append(w.DNSNames, "*.com") },
			nil,
			[]string{"name.wildcard-too-broad fault"}},
		"a private name": {func(w *x509.CertificateRequest) { w.DNSNames = append(w.DNSNames, "store.local") }, nil,
			nil},
	} {
		w := &x509.CertificateRequest{Subject: pkix.Name{CommonName: host}, DNSNames: []string{host}}
		if tt.change != nil {
			tt.change(w)
		}
		der, err := x509.CreateCertificateRequest(rand.Reader, w, key)
		require.NoError(t, err)
		context := s.context()
		context.Names = names(t, tt.needed...)
		f := facts.File{Schema: facts.Schema, Path: "tides.csr", Items: []facts.Item{{Kind: facts.Request, DER: der}}}
		var got []string
		for _, f := range judge.File(f, context).Findings {
			got = append(got, f.Code+" "+string(f.Severity))
		}
		assert.Equal(t, tt.want, got, name)
	}
}
