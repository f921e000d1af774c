package ciphers_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/ciphers"
	"nurvik/core/tlswire"
)

// TestAccepts: what the wire shows of real servers is compared in the tests of servers; here stand the rules.
func TestAccepts(t *testing.T) {
	all := []tlswire.Version{tlswire.SSL30, tlswire.TLS10, tlswire.TLS11, tlswire.TLS12, tlswire.TLS13}
	rsa, ec := ciphers.Server{Versions: all, RSA: true, DHE: true}, ciphers.Server{Versions: all, ECDSA: true}
	tests := []struct {
		name, list string
		library    ciphers.OpenSSL
		server     ciphers.Server
		want       []string
		refused    []tlswire.Version
	}{
		{"OpenSSL 3 speaks nothing old at its level", "AES128-SHA", ciphers.Debian, rsa,
			[]string{"TLS 1.3: 3", "TLS 1.2: 1"}, []tlswire.Version{tlswire.TLS11, tlswire.TLS10, tlswire.SSL30}},
		{"but does at level 0", "AES128-SHA:@SECLEVEL=0", ciphers.Debian, rsa,
			[]string{"TLS 1.3: 3", "TLS 1.2: 1", "TLS 1.1: 1", "TLS 1.0: 1"}, []tlswire.Version{tlswire.SSL30}},
		{"older libraries speak old versions at their level", "AES128-SHA:RC4",
			ciphers.OpenSSL{Major: 1, Minor: 1, Weak: true,
				Level: 1}, rsa, []string{"TLS 1.3: 3", "TLS 1.2: 3", "TLS 1.1: 3", "TLS 1.0: 3", "SSL 3.0: 2"}, nil},
		{"no key, no suite", "ECDHE-RSA-AES128-GCM-SHA256", ciphers.Debian, ec,
			[]string{"TLS 1.3: 3"}, []tlswire.Version{tlswire.TLS11, tlswire.TLS10, tlswire.SSL30}},
		{"no parameters, no DHE", "DHE-RSA-AES128-GCM-SHA256:ECDHE-RSA-AES128-GCM-SHA256", ciphers.Debian,
			ciphers.Server{Versions: []tlswire.Version{tlswire.TLS12}, RSA: true}, []string{"TLS 1.2: 1"}, nil},
		{"nothing anonymous or plain at the usual level", "ALL:COMPLEMENTOFALL:!kRSA:!DHE", ciphers.Debian,
			ciphers.Server{Versions: []tlswire.Version{tlswire.TLS12}, ECDSA: true}, []string{"TLS 1.2: 15"}, nil},
		{"but at level 0", "aNULL+AES128:eNULL:@SECLEVEL=0", ciphers.Debian,
			ciphers.Server{Versions: []tlswire.Version{tlswire.TLS12}, ECDSA: true}, []string{"TLS 1.2: 3"}, nil},
		{"level 3 wants forward secrecy", "AES256-GCM-SHA384:ECDHE-RSA-AES256-GCM-SHA384:@SECLEVEL=3", ciphers.Debian,
			ciphers.Server{Versions: []tlswire.Version{tlswire.TLS12}, RSA: true}, []string{"TLS 1.2: 1"}, nil},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			a, err := tt.library.List(tt.list)
			require.NoError(t, err)
			accepted, refused := tt.library.Accepts(a, tt.server)
			assert.Equal(t, tt.want, counted(accepted))
			assert.Equal(t, tt.refused, refused)
		})
	}
}

func counted(accepted []ciphers.Accepted) (out []string) {
	for _, a := range accepted {
		out = append(out, a.Version.String()+": "+string(rune('0'+len(a.Suites)%10)))
		if len(a.Suites) > 9 {
			out[len(out)-1] = a.Version.String() + ": " + string(rune('0'+len(a.Suites)/10)) +
				string(rune('0'+len(a.Suites)%10))
		}
	}
	return out
}

func TestGroups(t *testing.T) {
	tests := []struct {
		name, list string
		minor      int
		want       []tlswire.Group
		unknown    []string
	}{
		{"names of all kinds", "X25519:prime256v1:P-384", 0, []tlswire.Group{29, 23, 24}, nil},
		{"hybrids in 3.5", "X25519MLKEM768:X25519", 5, []tlswire.Group{tlswire.X25519MLKEM768, 29}, nil},
		{"and not before", "X25519MLKEM768:X25519", 0, []tlswire.Group{29}, []string{"X25519MLKEM768"}},
		{"or where they are wanted only if known", "?X25519MLKEM768:X25519", 0, []tlswire.Group{29}, nil},
		{"tuples and removals", "*X25519/P-256:P-384:-P-256", 5, []tlswire.Group{29, 24}, nil},
		{"a name that is none", "X25519:P-257", 0, []tlswire.Group{29}, []string{"P-257"}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			got, unknown := ciphers.OpenSSL{Major: 3, Minor: tt.minor}.Groups(tt.list)
			assert.Equal(t, tt.want, got)
			assert.Equal(t, tt.unknown, unknown)
		})
	}
}
