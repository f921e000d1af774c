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

const newest = "TLS 1.3: TLS_AES_256_GCM_SHA384 TLS_CHACHA20_POLY1305_SHA256 TLS_AES_128_GCM_SHA256"

// nginx runs the web server with the settings for one server on the address,
// and further ones in which %s is the address.
func nginx(t *testing.T, settings, further string) netip.AddrPort {
	t.Helper()
	directory, address := t.TempDir(), free(t)
	material(t, directory, "ec", "EC")
	material(t, directory, "rsa", "RSA")
	material(t, directory, "other", "EC", "quays.tarnholm.example")
	answered(t, directory, "good")
	if further != "" {
		further = fmt.Sprintf(further, address)
	}
	write(t, filepath.Join(directory, "nginx.conf"), fmt.Appendf(nil, `
daemon off; user root; worker_processes 1; pid nginx.pid; error_log stderr warn;
events {}
http {
  access_log off; client_body_temp_path body; proxy_temp_path proxy;
  fastcgi_temp_path fastcgi; uwsgi_temp_path uwsgi; scgi_temp_path scgi;
  server {
    listen %s ssl; server_name %s;
    add_header Strict-Transport-Security "max-age=31536000" always;
    %s
    location / { return 204; }
  }
  %s
}
`, address, host, settings, further))
	run(t, address, nil, "/usr/sbin/nginx", "-p", directory, "-c", "nginx.conf", "-e", "stderr")
	return address
}

const onlyEC, bothKeys = "ssl_certificate ec.crt; ssl_certificate_key ec.key; ",
	"ssl_certificate ec.crt; ssl_certificate_key ec.key; ssl_certificate rsa.crt; ssl_certificate_key rsa.key; "

func TestNginx(t *testing.T) {
	tests := []struct {
		name, settings string
		want           []string
		order          facts.Order // of the oldest version with several suites
		version        string
	}{
		{"the server's order", onlyEC +
			"ssl_protocols TLSv1.2 TLSv1.3; ssl_prefer_server_ciphers on; ssl_ciphers " +
			"ECDHE-ECDSA-AES256-GCM-SHA384:ECDHE-ECDSA-AES128-GCM-SHA256:ECDHE-ECDSA-AES128-SHA256;",
			[]string{newest,
				"TLS 1.2: TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384 TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256 " +
					"TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA256"}, facts.ServerOrder, "TLS 1.2"},
		{"TLS 1.3 alone", onlyEC + "ssl_protocols TLSv1.3; ssl_prefer_server_ciphers on;", []string{newest},
			facts.ServerOrder, "TLS 1.3"},
		{"keys in X448 alone",
			onlyEC + "ssl_protocols TLSv1.3; ssl_prefer_server_ciphers on; ssl_ecdh_curve X448;", []string{newest},
			facts.ServerOrder, "TLS 1.3"},
		{"CCM alone", onlyEC + "ssl_protocols TLSv1.3; ssl_conf_command Ciphersuites TLS_AES_128_CCM_SHA256;",
			[]string{"TLS 1.3: TLS_AES_128_CCM_SHA256"}, "", "TLS 1.3"},
		{"old versions are refused by the library, whatever the file says",
			onlyEC + "ssl_protocols TLSv1 TLSv1.1 TLSv1.2; ssl_ciphers ECDHE-ECDSA-AES128-SHA;",
			[]string{"TLS 1.2: TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA"}, "", "TLS 1.2"},
		{"old versions at a lowered level", bothKeys +
			"ssl_protocols TLSv1 TLSv1.1 TLSv1.2; ssl_prefer_server_ciphers on; ssl_ciphers " +
			"ECDHE-ECDSA-AES128-SHA:ECDHE-RSA-AES128-SHA:AES256-SHA:@SECLEVEL=0;",
			[]string{
				"TLS 1.2: TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA " +
					"TLS_RSA_WITH_AES_256_CBC_SHA",
				"TLS 1.1: TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA " +
					"TLS_RSA_WITH_AES_256_CBC_SHA",
				"TLS 1.0: TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA " +
					"TLS_RSA_WITH_AES_256_CBC_SHA",
			}, facts.ServerOrder, "TLS 1.0"},
		{"the client's order", onlyEC +
			"ssl_protocols TLSv1.2; ssl_prefer_server_ciphers off; ssl_ciphers " +
			"ECDHE-ECDSA-AES128-GCM-SHA256:ECDHE-ECDSA-AES256-GCM-SHA384;",
			[]string{"TLS 1.2: TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384 TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256"},
			facts.ClientOrder, "TLS 1.2"},
		{"anonymous suites", onlyEC +
			"ssl_protocols TLSv1.2; ssl_prefer_server_ciphers on; ssl_ciphers " +
			"ECDHE-ECDSA-AES128-GCM-SHA256:AECDH-AES128-SHA:@SECLEVEL=0;",
			[]string{"TLS 1.2: TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256 TLS_ECDH_anon_WITH_AES_128_CBC_SHA"},
			facts.ServerOrder, "TLS 1.2"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			o := visit(t, nginx(t, tt.settings, ""), "https")
			assert.Equal(t, tt.want, accepted(o))
			assert.Equal(t, tt.order, orderOf(o, tt.version))
			assert.Equal(t, facts.PossessionShown, o.Possession)
			if assert.NotNil(t, o.HTTP) {
				assert.Equal(t, "max-age=31536000", o.HTTP.StrictTransportSecurity)
				assert.Equal(t, 204, o.HTTP.Status)
			}
		})
	}
}

// TestNginxGroupsOfOlderVersions: up to TLS 1.2 a server wants the curve of its certificate among
// those that are offered.
func TestNginxGroupsOfOlderVersions(t *testing.T) {
	tests := []struct {
		name, settings string
		want           []string
		order          facts.Order
	}{
		{"its own curve last", "ssl_prefer_server_ciphers on; ssl_ecdh_curve X25519:secp521r1:prime256v1;",
			[]string{"x25519", "secp521r1", "secp256r1"}, facts.ServerOrder},
		{"its own curve not at all", "ssl_prefer_server_ciphers on; ssl_ecdh_curve secp384r1:X25519;",
			[]string{"secp384r1", "x25519"}, facts.ServerOrder},
		{"the client's order", "ssl_prefer_server_ciphers off; ssl_ecdh_curve secp384r1:X25519;",
			[]string{"x25519", "secp384r1"}, facts.ClientOrder},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			o := visit(t, nginx(t, onlyEC+"ssl_protocols TLSv1.2; "+tt.settings, ""), "https")
			require.NotNil(t, o.Groups)
			assert.Equal(t, tt.want, o.Groups.Accepted)
			assert.Equal(t, tt.order, o.Groups.Order)
		})
	}
}

func TestNginxGroupsAndClientCertificates(t *testing.T) {
	o := visit(t, nginx(t,
		onlyEC+"ssl_protocols TLSv1.3; ssl_ecdh_curve secp384r1:X25519; ssl_verify_client optional; "+
			"ssl_client_certificate rsa.crt;", ""), "https")
	require.NotNil(t, o.Groups)
	assert.Equal(t, []string{"secp384r1", "x25519"}, o.Groups.Accepted)
	assert.Equal(t, facts.ServerOrder, o.Groups.Order)
	require.NotNil(t, o.ClientCertificate)
	assert.Len(t, o.ClientCertificate.Issuers, 1)
}

// TestNginxFiniteField: the parameters of DHE are the file's.
func TestNginxFiniteField(t *testing.T) {
	const ffdhe2048 = `-----BEGIN DH PARAMETERS-----
MIIBCAKCAQEA//////////+t+FRYortKmq/cViAnPTzx2LnFg84tNpWp4TZBFGQz
+8yTnc4kmz75fS/jY2MMddj2gbICrsRhetPfHtXV/WVhJDP1H18GbtCFY2VVPe0a
87VXE15/V8k1mE8McODmi3fipona8+/och3xWKE2rec1MKzKT0g6eXq8CrGCsyT7
YdEIqUuyyOP7uWrat2DX9GgdT0Kj3jlN9K5W7edjcrsZCwenyO4KbXCeAvzhzffi
7MA0BM0oNC9hkXL+nOmFg/+OTxIy7vKBg8P+OxtMb61zO7X8vC7CIAXFjvGDfRaD
ssbzSibBsu/6iGtCOGEoXJf//////////wIBAg==
-----END DH PARAMETERS-----
`
	parameters := filepath.Join(t.TempDir(), "parameters.pem")
	write(t, parameters, []byte(ffdhe2048))
	o := visit(t, nginx(t,
		bothKeys+"ssl_protocols TLSv1.2; ssl_ciphers DHE-RSA-AES128-GCM-SHA256; ssl_dhparam "+parameters+";", ""),
		"https")
	assert.Equal(t, []string{"TLS 1.2: TLS_DHE_RSA_WITH_AES_128_GCM_SHA256"}, accepted(o))
	require.NotNil(t, o.Groups)
	require.NotNil(t, o.Groups.FiniteField)
	assert.Equal(t, "ffdhe2048", o.Groups.FiniteField.Name)
}

func TestNginxNamesAndKeys(t *testing.T) {
	other := "server { listen %s ssl default_server; server_name quays.tarnholm.example; ssl_certificate " +
		"other.crt; ssl_certificate_key other.key; }"
	address := nginx(t, bothKeys, other)
	o := visit(t, address, "https")
	assert.Equal(t, []string{"other-key RSA " + host, "no-name ECDSA quays.tarnholm.example",
		"foreign-name ECDSA quays.tarnholm.example"}, others(t, o))
	quays := visitNamed(t, address, "https", "quays.tarnholm.example")
	assert.Empty(t, others(t, quays), "it is what everyone gets who does not ask for the other")
	assert.NotEqual(t, o.Certificates, quays.Certificates)

	refusing := "server { listen %s ssl default_server; ssl_reject_handshake on; }"
	o = visit(t, nginx(t, onlyEC, refusing), "https")
	assert.Equal(t, []string{"no-name alert unrecognized_name", "foreign-name alert unrecognized_name"}, others(t, o))
}

func TestNginxStapling(t *testing.T) {
	o := visit(t, nginx(t,
		"ssl_certificate good.crt; ssl_certificate_key good.key; ssl_stapling on; ssl_stapling_file good.ocsp;", ""),
		"https")
	assert.NotEmpty(t, o.Staple)
	assert.Len(t, o.Certificates, 2)
	assert.Empty(t, visit(t, nginx(t, onlyEC, ""), "https").Staple)
}

func TestNginxSessions(t *testing.T) {
	tests := []struct {
		name, settings   string
		modern, older    facts.Answer
		tickets, resumed facts.Answer
	}{
		{"tickets", "ssl_session_tickets on;", facts.Yes, facts.Yes, facts.Yes, facts.Yes},
		// in TLS 1.3 the identifier comes as a ticket
		{"identifiers", "ssl_session_tickets off; ssl_session_cache shared:s:1m;", facts.Yes, facts.Yes, facts.Yes,
			facts.Yes},
		// the library gives a ticket of TLS 1.3 all the same, and does not take it,
		{"neither", "ssl_session_tickets off; ssl_session_cache off;", facts.No, facts.No, facts.Yes, facts.No},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			o := visit(t, nginx(t, onlyEC+"ssl_protocols TLSv1.2 TLSv1.3; "+tt.settings, ""), "https")
			assert.Equal(t, tt.modern, versionOf(o, "TLS 1.3").Resumption)
			assert.Equal(t, tt.older, versionOf(o, "TLS 1.2").Resumption)
			assert.Equal(t, tt.resumed, o.Settings.Resumption)
			assert.Equal(t, tt.tickets, o.Settings.SessionTickets)
		})
	}
}
