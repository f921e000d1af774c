//go:build servers

package servers_test

import (
	"fmt"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"

	"nurvik/core/facts"
)

const newest = "TLS 1.3: TLS_AES_256_GCM_SHA384 TLS_CHACHA20_POLY1305_SHA256 TLS_AES_128_GCM_SHA256"

// nginx runs the web server with the settings for one server on the address.
func nginx(t *testing.T, settings string) facts.Observation {
	t.Helper()
	directory, address := t.TempDir(), free(t)
	for name, kind := range map[string]string{"ec": "EC", "rsa": "RSA"} {
		material(t, directory, name, kind)
	}
	write(t, filepath.Join(directory, "nginx.conf"), fmt.Appendf(nil, `
daemon off; master_process off; pid nginx.pid; error_log stderr warn;
events {}
http {
  access_log off; client_body_temp_path body; proxy_temp_path proxy; fastcgi_temp_path fastcgi; uwsgi_temp_path uwsgi; scgi_temp_path scgi;
  server {
    listen %s ssl; server_name %s;
    add_header Strict-Transport-Security "max-age=31536000" always;
    %s
    location / { return 204; }
  }
}
`, address, host, settings))
	run(t, address, nil, "/usr/sbin/nginx", "-p", directory, "-c", "nginx.conf", "-e", "stderr")
	return visit(t, address, "https")
}

func TestNginx(t *testing.T) {
	const ec, both = "ssl_certificate ec.crt; ssl_certificate_key ec.key; ", "ssl_certificate ec.crt; ssl_certificate_key ec.key; ssl_certificate rsa.crt; ssl_certificate_key rsa.key; "
	tests := []struct {
		name, settings string
		want           []string
		order          facts.Order // of the oldest version with several suites
		version        string
	}{
		{"the server's order", ec + "ssl_protocols TLSv1.2 TLSv1.3; ssl_prefer_server_ciphers on; ssl_ciphers ECDHE-ECDSA-AES256-GCM-SHA384:ECDHE-ECDSA-AES128-GCM-SHA256:ECDHE-ECDSA-AES128-SHA256;",
			[]string{newest, "TLS 1.2: TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384 TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256 TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA256"}, facts.ServerOrder, "TLS 1.2"},
		{"TLS 1.3 alone", ec + "ssl_protocols TLSv1.3; ssl_prefer_server_ciphers on;", []string{newest}, facts.ServerOrder, "TLS 1.3"},
		{"old versions are refused by the library, whatever the file says", ec + "ssl_protocols TLSv1 TLSv1.1 TLSv1.2; ssl_ciphers ECDHE-ECDSA-AES128-SHA;",
			[]string{"TLS 1.2: TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA"}, "", "TLS 1.2"},
		{"old versions at a lowered level", both + "ssl_protocols TLSv1 TLSv1.1 TLSv1.2; ssl_prefer_server_ciphers on; ssl_ciphers ECDHE-ECDSA-AES128-SHA:ECDHE-RSA-AES128-SHA:AES256-SHA:@SECLEVEL=0;",
			[]string{
				"TLS 1.2: TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA TLS_RSA_WITH_AES_256_CBC_SHA",
				"TLS 1.1: TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA TLS_RSA_WITH_AES_256_CBC_SHA",
				"TLS 1.0: TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA TLS_RSA_WITH_AES_256_CBC_SHA",
			}, facts.ServerOrder, "TLS 1.0"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			o := nginx(t, tt.settings)
			assert.Equal(t, tt.want, accepted(o))
			assert.Equal(t, tt.order, orderOf(o, tt.version))
			assert.Equal(t, facts.PossessionShown, o.Possession)
			if assert.NotNil(t, o.HTTP) {
				assert.Equal(t, "max-age=31536000", o.HTTP.StrictTransport)
				assert.Equal(t, 204, o.HTTP.Status)
			}
		})
	}
}

func TestNginxClientsOrder(t *testing.T) {
	o := nginx(t, "ssl_certificate ec.crt; ssl_certificate_key ec.key; ssl_protocols TLSv1.2; ssl_prefer_server_ciphers off; ssl_ciphers ECDHE-ECDSA-AES256-GCM-SHA384:ECDHE-ECDSA-AES128-GCM-SHA256;")
	assert.Equal(t, facts.ClientOrder, orderOf(o, "TLS 1.2"))
}

func TestNginxGroupsAndClientCertificates(t *testing.T) {
	o := nginx(t, "ssl_certificate ec.crt; ssl_certificate_key ec.key; ssl_ecdh_curve secp384r1:X25519; ssl_verify_client optional; ssl_client_certificate rsa.crt; ssl_session_tickets off;")
	if assert.NotNil(t, o.Groups) {
		assert.ElementsMatch(t, []string{"secp384r1", "x25519"}, o.Groups.Accepted)
	}
	if assert.NotNil(t, o.Client) {
		assert.Len(t, o.Client.Issuers, 1)
	}
}
