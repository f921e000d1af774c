//go:build servers

package servers_test

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
)

func TestHAProxy(t *testing.T) {
	tests := []struct {
		name, settings string
		want           []string
	}{
		{"one suite of each version", "ssl-min-ver TLSv1.2 ciphers ECDHE-ECDSA-CHACHA20-POLY1305 ciphersuites TLS_AES_128_GCM_SHA256",
			[]string{"TLS 1.3: TLS_AES_128_GCM_SHA256", "TLS 1.2: TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256"}},
		{"nothing newer than TLS 1.2", "ssl-min-ver TLSv1.2 ssl-max-ver TLSv1.2 ciphers ECDHE-ECDSA-AES128-GCM-SHA256",
			[]string{"TLS 1.2: TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256"}},
		{"TLS 1.0 at a lowered level", "ssl-min-ver TLSv1.0 ssl-max-ver TLSv1.1 ciphers ECDHE-ECDSA-AES256-SHA:@SECLEVEL=0",
			[]string{"TLS 1.1: TLS_ECDHE_ECDSA_WITH_AES_256_CBC_SHA", "TLS 1.0: TLS_ECDHE_ECDSA_WITH_AES_256_CBC_SHA"}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			directory, address := t.TempDir(), free(t)
			material(t, directory, "ec", "EC")
			var both []byte
			for _, name := range []string{"ec.crt", "ec.key"} {
				data, err := os.ReadFile(filepath.Join(directory, name))
				require.NoError(t, err)
				both = append(both, data...)
			}
			write(t, filepath.Join(directory, "both.pem"), both)
			path := filepath.Join(directory, "haproxy.cfg")
			write(t, path, fmt.Appendf(nil, `
defaults
  mode http
  timeout client 5s
  timeout server 5s
  timeout connect 5s
frontend quay
  bind %s ssl crt %s/both.pem %s
  http-request return status 200
`, address, directory, tt.settings))
			run(t, address, nil, "/usr/sbin/haproxy", "-db", "-f", path)
			o := visit(t, address, "https")
			assert.Equal(t, tt.want, accepted(o))
			assert.Equal(t, facts.PossessionShown, o.Possession)
		})
	}
}
