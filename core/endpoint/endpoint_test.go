package endpoint_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/endpoint"
)

func TestParse(t *testing.T) {
	tests := []struct {
		in     string
		text   string
		scheme string
		host   string
		port   uint16
		sni    string
	}{
		{"tides.tarnholm.example", "tides.tarnholm.example:443", "https", "tides.tarnholm.example", 443,
			"tides.tarnholm.example"},
		{"Tides.Tarnholm.example.:8443", "tides.tarnholm.example:8443", "https", "tides.tarnholm.example", 8443,
			"tides.tarnholm.example"},
		{"https://tides.tarnholm.example/", "tides.tarnholm.example:443", "https", "tides.tarnholm.example", 443,
			"tides.tarnholm.example"},
		{"192.0.2.7", "192.0.2.7:443", "https", "192.0.2.7", 443, ""},
		{"192.0.2.7:993", "192.0.2.7:993", "imaps", "192.0.2.7", 993, ""},
		{"2001:db8::7", "[2001:db8::7]:443", "https", "2001:db8::7", 443, ""},
		{"[2001:db8::7]:8443", "[2001:db8::7]:8443", "https", "2001:db8::7", 8443, ""},
		{"imaps://post.tarnholm.example", "post.tarnholm.example:993", "imaps", "post.tarnholm.example", 993,
			"post.tarnholm.example"},
		{"ldaps://dir.tarnholm.example:1636", "ldaps://dir.tarnholm.example:1636", "ldaps", "dir.tarnholm.example",
			1636, "dir.tarnholm.example"},
		{"https://post.tarnholm.example:25", "https://post.tarnholm.example:25", "https", "post.tarnholm.example", 25,
			"post.tarnholm.example"},
		{"smtp://post.tarnholm.example", "post.tarnholm.example:25", "smtp", "post.tarnholm.example", 25,
			"post.tarnholm.example"},
		{"post.tarnholm.example:587", "post.tarnholm.example:587", "submission", "post.tarnholm.example", 587,
			"post.tarnholm.example"},
		{"db.tarnholm.example:5432", "db.tarnholm.example:5432", "postgres", "db.tarnholm.example", 5432,
			"db.tarnholm.example"},
		{"ldap://dir.tarnholm.example:1389", "ldap://dir.tarnholm.example:1389", "ldap", "dir.tarnholm.example", 1389,
			"dir.tarnholm.example"},
		{"fähre.tarnholm.example", "xn--fhre-loa.tarnholm.example:443", "https", "xn--fhre-loa.tarnholm.example", 443,
			"xn--fhre-loa.tarnholm.example"},
	}
	for _, tt := range tests {
		t.Run(tt.in, func(t *testing.T) {
			e, err := endpoint.Parse(tt.in)
			require.NoError(t, err)
			assert.Equal(t, endpoint.Endpoint{Scheme: tt.scheme, Host: tt.host, Port: tt.port}, e)
			assert.Equal(t, tt.text, e.String())
			assert.Equal(t, tt.sni, e.ServerName())
			again, err := endpoint.Parse(e.String())
			require.NoError(t, err)
			assert.Equal(t, e, again, "the text form leads back")
		})
	}
}

func TestParseRefuses(t *testing.T) {
	tests := map[string]string{
		"":                                "host is missing",
		":443":                            "host is missing",
		"tides.tarnholm.example:0":        "port",
		"tides.tarnholm.example:70000":    "port",
		"tides.tarnholm.example:https":    "port",
		"[2001:db8::7":                    "[address]:port",
		"gopher://tides":                  "scheme",
		"http://tides.tarnholm.example":   "no TLS",
		"https://ti des.tarnholm.example": "character",
	}
	for in, reason := range tests {
		t.Run(in, func(t *testing.T) {
			_, err := endpoint.Parse(in)
			var wrong *endpoint.ParseError
			require.ErrorAs(t, err, &wrong)
			assert.ErrorContains(t, err, reason)
		})
	}
}

func TestConnect(t *testing.T) {
	e, err := endpoint.Parse("tides.tarnholm.example:8443")
	require.NoError(t, err)
	for in, want := range map[string]string{
		"192.0.2.7": "192.0.2.7:8443", "192.0.2.7:9": "192.0.2.7:9", "2001:db8::7": "[2001:db8::7]:8443",
		"[2001:db8::7]:9": "[2001:db8::7]:9",
	} {
		c, err := endpoint.ParseVisitAt(in)
		require.NoError(t, err, in)
		assert.Equal(t, netip.MustParseAddrPort(want), c.On(e), in)
	}
	for _, in := range []string{"", "tides.tarnholm.example", "192.0.2.7:0", "192.0.2.7:x"} {
		_, err := endpoint.ParseVisitAt(in)
		assert.ErrorContains(t, err, "write ADDRESS or ADDRESS:PORT", in)
	}
}

func FuzzParse(f *testing.F) {
	for _, seed := range []string{"tides.tarnholm.example:443", "[::1]:1", "imaps://a.example", "::1", "https://x/",
		"a:b:c"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		e, err := endpoint.Parse(text)
		if err != nil {
			return
		}
		again, err := endpoint.Parse(e.String())
		require.NoError(t, err, "%q became %q", text, e)
		assert.Equal(t, e, again)
	})
}
