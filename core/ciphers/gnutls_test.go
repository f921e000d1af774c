package ciphers_test

import (
	"os/exec"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/ciphers"
	"nurvik/core/tlswire"
)

// priorityStrings are strings as they stand in configurations, and some that try each sign.
var priorityStrings = []string{
	"NORMAL", "PERFORMANCE", "SECURE128", "SECURE192", "SECURE256", "PFS", "SUITEB128", "SUITEB192", "LEGACY", "NONE",
	"",
	"NORMAL:-VERS-ALL:+VERS-TLS1.2", "NORMAL:-VERS-ALL:+VERS-TLS1.2:+VERS-TLS1.3", "SECURE256:+SECURE128",
	"SECURE128:-VERS-ALL:+VERS-TLS1.3:+VERS-TLS1.2", "NORMAL:-SECURE128", "NORMAL:!RSA", "NORMAL:+FANTASY",
	"NORMAL:%SERVER_PRECEDENCE:%COMPAT", "normal:-rsa", "@SYSTEM", "NORMAL:+3DES-CBC:+ARCFOUR-128:+MD5:+SHA256",
	"NORMAL:+ANON-ECDH:+ANON-DH", "NORMAL:+PSK:+ECDHE-PSK:+DHE-PSK:+RSA-PSK", "NORMAL:-CIPHER-ALL:+AES-256-GCM",
	"NORMAL:-VERS-TLS1.3", "NORMAL:+ALL", "NORMAL:-GROUP-X25519:+GROUP-X25519", "NORMAL:-CURVE-ALL:+CURVE-SECP384R1",
	"NORMAL:-KX-ALL:+RSA", "NORMAL:-MAC-ALL:+SHA1", "PFS:-SHA1", "SECURE256:-VERS-TLS1.0:-VERS-TLS1.1:-MAC-ALL:+AEAD",
	"NONE:+VERS-ALL:+CIPHER-ALL:+MAC-ALL:+KX-ALL:+GROUP-ALL:+SIGN-ALL", "NORMAL:-AES-128-CBC:-AES-256-CBC",
	"NORMAL:+CAMELLIA-256-GCM:+CAMELLIA-128-CBC:+SHA384", "NORMAL:+DHE-DSS:+SRP:+SRP-RSA:+SRP-DSS",
	"NORMAL:-DHE-RSA:-RSA",
	"NORMAL:+AES-128-CCM-8:+AES-256-CCM-8", "NORMAL:-VERS-ALL:+VERS-TLS1.3", "NORMAL:+NULL",
	"NONE:+VERS-TLS1.2:+MAC-ALL:+ECDHE-RSA:+AES-128-GCM:+SIGN-ALL:+GROUP-ALL", "NORMAL:-VERS-ALL",
	"NORMAL:!VERS-TLS1.0",
	"SECURE128:NORMAL", "NORMAL:SECURE256", "NORMAL::-RSA", "NORMAL:-SIGN-RSA-SHA1", "NORMAL: -RSA",
}

var prioritySuite = regexp.MustCompile(`(?m)^TLS_\S+\s+0x(..), 0x(..)`)

// TestPrioritiesAreGnuTLSs compares with the library itself, order included.
func TestPrioritiesAreGnuTLSs(t *testing.T) {
	for _, text := range priorityStrings {
		t.Run(text, func(t *testing.T) {
			t.Parallel()
			out, err := exec.Command("gnutls-cli", "--list", "--priority", text).CombinedOutput()
			got, refused := ciphers.GnuTLS{}.Priorities(text)
			if err != nil {
				assert.ErrorIs(t, refused, ciphers.ErrSyntax, "%s", out)
				return
			}
			var want []tlswire.Suite
			for _, m := range prioritySuite.FindAllStringSubmatch(string(out), -1) {
				n, err := strconv.ParseUint(m[1]+m[2], 16, 16)
				require.NoError(t, err)
				want = append(want, tlswire.Suite(n))
			}
			if len(want) == 0 {
				assert.ErrorIs(t, refused, ciphers.ErrNoCipher)
				return
			}
			require.NoError(t, refused)
			assert.Equal(t, want, append(got.Suites13, got.Suites...))
			assert.Equal(t, listed(string(out), "Groups: ", "GROUP-"), len(got.Groups))
			assert.Equal(t, listed(string(out), "PK-signatures: ", "SIGN-"), len(got.Signatures), "%v", got.Signatures)
			assert.Equal(t, listed(string(out), "Protocols: ", "VERS-TLS"), len(got.Versions))
		})
	}
}

// listed counts the entries of a line that begin with the prefix.
func listed(out, line, prefix string) int {
	for l := range strings.Lines(out) {
		if rest, found := strings.CutPrefix(l, line); found {
			return strings.Count(rest, prefix)
		}
	}
	return 0
}

func TestSystemPriorities(t *testing.T) {
	g := ciphers.GnuTLS{System: map[string]string{"SYSTEM": "SECURE256", "LOOP": "@LOOP", "HARBOUR": "@SYSTEM:-RSA"}}
	tests := []struct {
		name, text, like string
	}{
		{"by its name", "@SYSTEM", "SECURE256"},
		{"with more behind it", "@SYSTEM:+SECURE128", "SECURE256:+SECURE128"},
		{"the first that is there", "@QUAY,SYSTEM", "SECURE256"},
		{"one that names another", "@HARBOUR", "SECURE256:-RSA"},
		{"one that names itself", "@LOOP", ""},
		{"one that is not there", "@QUAY", ""},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			got, err := g.Priorities(tt.text)
			if tt.like == "" {
				assert.ErrorIs(t, err, ciphers.ErrSyntax)
				return
			}
			require.NoError(t, err)
			want, err := g.Priorities(tt.like)
			require.NoError(t, err)
			assert.Equal(t, want, got)
		})
	}
	precedence, err := g.Priorities("NORMAL:%SERVER_PRECEDENCE")
	require.NoError(t, err)
	assert.True(t, precedence.ServerOrder)
}

func FuzzPriorities(f *testing.F) {
	for _, text := range priorityStrings {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		got, err := ciphers.GnuTLS{System: map[string]string{"A": text, "B": "@A"}}.Priorities(text)
		if err == nil {
			require.NotEmpty(t, append(got.Suites, got.Suites13...))
			require.NotEmpty(t, got.Versions)
		}
	})
}
