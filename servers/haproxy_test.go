//go:build servers

package servers_test

import (
	"fmt"
	"net/netip"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
)

// haproxy runs the proxy with the settings of one bind line; %s is the directory of the certificates.
func haproxy(t *testing.T, settings string) netip.AddrPort {
	t.Helper()
	return haproxyWith(t, "", settings)
}

// haproxyWith runs it with a line of the global section as well.
func haproxyWith(t *testing.T, global, settings string) netip.AddrPort {
	t.Helper()
	directory, address := t.TempDir(), free(t)
	for name, kind := range map[string]string{"ec": "EC", "rsa": "RSA"} {
		material(t, directory, name, kind)
	}
	material(t, directory, "other", "EC", "quays.tarnholm.example")
	answered(t, directory, "good")
	answeredFile(t, directory, "good.both.ocsp", "good.ocsp")
	path := filepath.Join(directory, "haproxy.cfg")
	write(t, path, fmt.Appendf(nil, `
global
  %s
defaults
  mode http
  timeout client 5s
  timeout server 5s
  timeout connect 5s
frontend quay
  bind %s ssl %s
  http-request return status 200
`, global, address, fmt.Sprintf(settings, directory)))
	run(t, address, nil, "/usr/sbin/haproxy", "-db", "-f", path)
	return address
}

func TestHAProxy(t *testing.T) {
	tests := []struct {
		name, settings string
		want           []string
	}{
		{"one suite of each version",
			"ssl-min-ver TLSv1.2 ciphers ECDHE-ECDSA-CHACHA20-POLY1305 ciphersuites TLS_AES_128_GCM_SHA256",
			[]string{"TLS 1.3: TLS_AES_128_GCM_SHA256", "TLS 1.2: TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256"}},
		{"nothing newer than TLS 1.2", "ssl-min-ver TLSv1.2 ssl-max-ver TLSv1.2 ciphers ECDHE-ECDSA-AES128-GCM-SHA256",
			[]string{"TLS 1.2: TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256"}},
		{"TLS 1.0 at a lowered level",
			"ssl-min-ver TLSv1.0 ssl-max-ver TLSv1.1 ciphers ECDHE-ECDSA-AES256-SHA:@SECLEVEL=0",
			[]string{"TLS 1.1: TLS_ECDHE_ECDSA_WITH_AES_256_CBC_SHA", "TLS 1.0: TLS_ECDHE_ECDSA_WITH_AES_256_CBC_SHA"}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			o := visit(t, haproxy(t, "crt %s/ec.both "+tt.settings), "https")
			assert.Equal(t, tt.want, accepted(o))
			assert.Equal(t, facts.PossessionShown, o.Possession)
		})
	}
}

func TestHAProxyNamesAndClients(t *testing.T) {
	o := visit(t, haproxy(t,
		"crt %[1]s/other.both crt %[1]s/ec.both verify optional ca-file %[1]s/rsa.crt no-tls-tickets alpn h2,http/1.1"),
		"https")
	assert.Equal(t, []string{"no-name ECDSA quays.tarnholm.example", "foreign-name ECDSA quays.tarnholm.example"},
		others(t, o))
	require.NotNil(t, o.ClientCertificate)
	assert.Len(t, o.ClientCertificate.Issuers, 1)
	assert.Equal(t, "h2", o.Settings.ALPN)
	strict := visit(t, haproxy(t, "crt %[1]s/ec.both strict-sni"), "https")
	assert.Equal(t, []string{"no-name alert unrecognized_name", "foreign-name alert unrecognized_name"},
		others(t, strict))
}

func TestHAProxyStapling(t *testing.T) {
	assert.NotEmpty(t, visit(t, haproxy(t, "crt %s/good.both"), "https").Staple)
	assert.Empty(t, visit(t, haproxy(t, "crt %s/ec.both"), "https").Staple)
}
