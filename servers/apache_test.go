//go:build servers

package servers_test

import (
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
)

// apache runs the web server with the settings for the host, and further text in which %s is the address.
func apache(t *testing.T, settings, common, further string) (netip.AddrPort, string) {
	t.Helper()
	directory, address := place(t), free(t)
	material(t, directory, "ec", "EC")
	material(t, directory, "rsa", "RSA")
	material(t, directory, "other", "EC", "quays.tarnholm.example")
	answered(t, directory, "good")
	if further != "" {
		further = fmt.Sprintf(further, address)
	}
	path := filepath.Join(directory, "apache2.conf")
	write(t, path, fmt.Appendf(nil, `
ServerRoot %[1]s
PidFile %[1]s/pid
ErrorLog %[1]s/log
DefaultRuntimeDir %[1]s
User www-data
Group www-data
ServerName %[2]s
LoadModule mpm_event_module /usr/lib/apache2/modules/mod_mpm_event.so
LoadModule authz_core_module /usr/lib/apache2/modules/mod_authz_core.so
LoadModule alias_module /usr/lib/apache2/modules/mod_alias.so
LoadModule headers_module /usr/lib/apache2/modules/mod_headers.so
LoadModule socache_shmcb_module /usr/lib/apache2/modules/mod_socache_shmcb.so
LoadModule ssl_module /usr/lib/apache2/modules/mod_ssl.so
Header always set Strict-Transport-Security "max-age=86400"
Redirect gone /
Listen %[3]s
%[4]s
<VirtualHost %[3]s>
ServerName %[2]s
SSLEngine on
%[5]s
</VirtualHost>
%[6]s
`, directory, host, address, common, settings, further))
	run(t, address, nil, "/usr/sbin/apache2", "-DFOREGROUND", "-d", directory, "-f", path)
	return address, directory
}

const apacheEC, apacheRSA = "SSLCertificateFile ec.crt\nSSLCertificateKeyFile ec.key\n",
	"SSLCertificateFile rsa.crt\nSSLCertificateKeyFile rsa.key\n"

func TestApache(t *testing.T) {
	tests := []struct {
		name, settings string
		want           []string
		order          facts.Order
		version        string
	}{
		{"the server's order", apacheEC +
			"SSLProtocol -all +TLSv1.2 +TLSv1.3\nSSLHonorCipherOrder on\nSSLCipherSuite " +
			"ECDHE-ECDSA-AES128-GCM-SHA256:ECDHE-ECDSA-AES256-GCM-SHA384",
			[]string{newest,
				"TLS 1.2: TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256 TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384"},
			facts.ServerOrder, "TLS 1.2"},
		{"the suites of TLS 1.3 too", apacheEC +
			"SSLProtocol -all +TLSv1.3\nSSLHonorCipherOrder on\nSSLCipherSuite TLSv1.3 " +
			"TLS_AES_128_GCM_SHA256:TLS_AES_256_GCM_SHA384",
			[]string{"TLS 1.3: TLS_AES_128_GCM_SHA256 TLS_AES_256_GCM_SHA384"}, facts.ServerOrder, "TLS 1.3"},
		{"old versions are refused by the library", apacheEC + "SSLProtocol all\nSSLCipherSuite ECDHE-ECDSA-AES128-SHA",
			[]string{"TLS 1.3: TLS_AES_256_GCM_SHA384 TLS_AES_128_GCM_SHA256 TLS_CHACHA20_POLY1305_SHA256",
				"TLS 1.2: TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA"}, facts.ClientOrder, "TLS 1.3"},
		{"old versions at a lowered level", apacheRSA +
			"SSLProtocol -all +TLSv1 +TLSv1.1\nSSLHonorCipherOrder on\nSSLCipherSuite " +
			"AES256-SHA:AES128-SHA:@SECLEVEL=0",
			[]string{"TLS 1.1: TLS_RSA_WITH_AES_256_CBC_SHA TLS_RSA_WITH_AES_128_CBC_SHA",
				"TLS 1.0: TLS_RSA_WITH_AES_256_CBC_SHA TLS_RSA_WITH_AES_128_CBC_SHA"}, facts.ServerOrder, "TLS 1.0"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			address, _ := apache(t, tt.settings, "", "")
			o := visit(t, address, "https")
			assert.Equal(t, tt.want, accepted(o))
			assert.Equal(t, tt.order, orderOf(o, tt.version))
			assert.Equal(t, facts.PossessionShown, o.Possession)
			require.NotNil(t, o.HTTP)
			assert.Equal(t, 410, o.HTTP.Status)
			assert.Equal(t, "max-age=86400", o.HTTP.StrictTransportSecurity)
		})
	}
}

func TestApacheNamesKeysAndClients(t *testing.T) {
	other := "<VirtualHost %s>\nServerName quays.tarnholm.example\nSSLEngine on\nSSLCertificateFile " +
		"other.crt\nSSLCertificateKeyFile other.key\n</VirtualHost>"
	address, _ := apache(t, apacheEC+apacheRSA+"SSLVerifyClient optional\nSSLCACertificateFile rsa.crt", "", other)
	o := visit(t, address, "https")
	assert.Equal(t, []string{"other-key RSA " + host}, others(t, o),
		"it is the first, whose certificates everyone gets")
	require.NotNil(t, o.ClientCertificate)
	assert.Len(t, o.ClientCertificate.Issuers, 1)
	quays := visitNamed(t, address, "https", "quays.tarnholm.example")
	assert.Contains(t, others(t, quays), "foreign-name RSA "+host)
	assert.Nil(t, quays.ClientCertificate)
}

// TestApacheStapling: the server asks the issuer's responder and sends the answer along.
func TestApacheStapling(t *testing.T) {
	var directory string
	responder := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		answer, err := os.ReadFile(filepath.Join(directory, "good.ocsp"))
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		w.Header().Set("Content-Type", "application/ocsp-response")
		_, _ = w.Write(answer)
	}))
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	responder.Listener = listener
	common := "SSLStaplingCache shmcb:stapling(32768)"
	var address netip.AddrPort
	address, directory = apache(t,
		"SSLCertificateFile good.crt\nSSLCertificateKeyFile good.key\nSSLUseStapling on\nSSLStaplingForceURL "+
			"http://"+listener.Addr().String()+"/", common, "")
	responder.Start()
	defer responder.Close()
	assert.NotEmpty(t, visit(t, address, "https").Staple)
}
