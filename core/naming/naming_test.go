package naming_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/forge"
	"nurvik/core/naming"
	"nurvik/core/pki"
)

func TestParse(t *testing.T) {
	tests := []struct{ name, in, want string }{
		{"host", "tides.tarnholm.example", "tides.tarnholm.example"},
		{"upper case", "Tides.TARNHOLM.example", "tides.tarnholm.example"},
		{"one trailing dot", "tides.tarnholm.example.", "tides.tarnholm.example"},
		{"single label", "tides", "tides"},
		{"underscore", "_tide.tarnholm.example", "_tide.tarnholm.example"},
		{"U-label", "fähre.tarnholm.example", "xn--fhre-loa.tarnholm.example"},
		{"IPv4", "192.0.2.7", "192.0.2.7"},
		{"IPv6", "2001:DB8::7", "2001:db8::7"},
		{"IPv6 in brackets", "[2001:db8::7]", "2001:db8::7"},
		{"IPv4 mapped into IPv6", "::ffff:192.0.2.7", "::ffff:192.0.2.7"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			r, err := naming.Parse(tt.in)
			require.NoError(t, err)
			assert.Equal(t, tt.want, r.String())
		})
	}
	for name, in := range map[string]string{
		"empty": "", "dot": ".", "two trailing dots": "a.example..", "empty label": "a..example",
		"space": "a b.example", "wildcard": "*.tarnholm.example",
		"leading hyphen": "-a.example", "trailing hyphen": "a-.example", "number at the end": "192.0.2.300",
		"scheme":     "https://a.example",
		"long label": "a123456789012345678901234567890123456789012345678901234567890123.example",
	} {
		t.Run("not "+name, func(t *testing.T) {
			_, err := naming.Parse(in)
			var wrong *naming.NotANameError
			require.ErrorAs(t, err, &wrong)
			assert.NotEmpty(t, wrong.Reason)
		})
	}
}

func withNames(t testing.TB, names ...string) *pki.Certificate {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	spki, err := forge.PublicInfo(key)
	require.NoError(t, err)
	raw, err := forge.Issue(nil, key, forge.Template{Name: "common.tarnholm.example", Names: names, SPKI: spki,
		From: time.Unix(0, 0), Until: time.Unix(1e9, 0)})
	require.NoError(t, err)
	c, err := pki.ParseCertificate(raw)
	require.NoError(t, err)
	return c
}

func TestCoveredBy(t *testing.T) {
	tests := []struct {
		name  string
		entry string
		asked string
		want  bool
	}{
		{"same", "tides.tarnholm.example", "tides.tarnholm.example", true},
		{"case does not count", "Tides.Tarnholm.Example", "tides.tarnholm.example", true},
		{"another", "tides.tarnholm.example", "pilots.tarnholm.example", false},
		{"longer", "tarnholm.example", "tides.tarnholm.example", false},
		{"wildcard covers one label", "*.tarnholm.example", "tides.tarnholm.example", true},
		{"wildcard does not cover none", "*.tarnholm.example", "tarnholm.example", false},
		{"wildcard does not cover two", "*.tarnholm.example", "low.tides.tarnholm.example", false},
		{"partial wildcard covers nothing", "ti*.tarnholm.example", "tides.tarnholm.example", false},
		{"wildcard inside covers nothing", "tides.*.example", "tides.tarnholm.example", false},
		{"bare wildcard covers nothing", "*", "tides", false},
		{"wildcard and A-label", "*.tarnholm.example", "xn--fhre-loa.tarnholm.example", true},
		{"trailing dot in the entry is malformed", "tides.tarnholm.example.", "tides.tarnholm.example", false},
		{"underscore matches literally", "_tide.tarnholm.example", "_tide.tarnholm.example", true},
		{"IPv4", "192.0.2.7", "192.0.2.7", true},
		{"IPv6 in another spelling", "2001:db8:0:0::7", "2001:db8::7", true},
		{"another address", "192.0.2.7", "192.0.2.8", false},
		{"the common name never counts", "tides.tarnholm.example", "common.tarnholm.example", false},
		{"a wildcard covers no address", "*.0.2.7", "192.0.2.7", false},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			r, err := naming.Parse(tt.asked)
			require.NoError(t, err)
			entry, ok := r.CoveredBy(withNames(t, tt.entry))
			assert.Equal(t, tt.want, ok)
			if ok {
				assert.NotEmpty(t, entry.Value)
			}
		})
	}
}

// TestAgainstStandardLibrary compares where the two mean to agree.
func TestAgainstStandardLibrary(t *testing.T) {
	c := withNames(t, "tides.tarnholm.example", "*.quays.tarnholm.example", "192.0.2.7")
	std, err := x509.ParseCertificate(c.Raw)
	require.NoError(t, err)
	for _, asked := range []string{"tides.tarnholm.example", "a.quays.tarnholm.example", "quays.tarnholm.example",
		"a.b.quays.tarnholm.example", "192.0.2.7", "192.0.2.9", "TIDES.tarnholm.example"} {
		r, err := naming.Parse(asked)
		require.NoError(t, err)
		_, ok := r.CoveredBy(c)
		assert.Equal(t, std.VerifyHostname(asked) == nil, ok, asked)
	}
}

func FuzzParse(f *testing.F) {
	for _, seed := range []string{"tides.tarnholm.example", "fähre.example", "[::1]", "::ffff:1.2.3.4", "xn--", "a_b",
		"*."} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		r, err := naming.Parse(text)
		if err != nil {
			return
		}
		again, err := naming.Parse(r.String())
		require.NoError(t, err, "the canonical form of %q is %q", text, r)
		assert.Equal(t, r, again)
	})
}
