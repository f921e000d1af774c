//go:build servers

package servers_test

import (
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/judge"
)

// slapd runs the directory server; %s in the settings is its directory. It is built on GnuTLS.
func slapd(t *testing.T, settings string) netip.AddrPort {
	t.Helper()
	directory, address := place(t), free(t)
	material(t, directory, "ec", "EC")
	material(t, directory, "rsa", "RSA")
	path := filepath.Join(directory, "slapd.conf")
	write(t, path, fmt.Appendf(nil,
		"pidfile %[1]s/pid\nTLSCertificateFile %[1]s/ec.crt\nTLSCertificateKeyFile %[1]s/ec.key\n%[2]s\n", directory,
		fmt.Sprintf(settings, directory)))
	run(t, address, nil, "/usr/sbin/slapd", "-d", "0", "-h", "ldap://"+address.String()+"/", "-f", path)
	return address
}

func TestSlapd(t *testing.T) {
	tests := []struct {
		name, settings string
		want           []string
		order          facts.Order
	}{
		{"the suites of one version, in the server's order",
			"TLSCipherSuite " +
				"NONE:+VERS-TLS1.2:+ECDHE-ECDSA:+AES-256-GCM:+AES-128-GCM:+AEAD:+SIGN-ALL:+GROUP-ALL:" +
				"+COMP-NULL:+CTYPE-X509:%%SERVER_PRECEDENCE\n#%s",
			[]string{"TLS 1.2: TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384 TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256"},
			facts.ServerOrder},
		{"in the client's order",
			"TLSCipherSuite " +
				"NONE:+VERS-TLS1.2:+ECDHE-ECDSA:+AES-128-GCM:+AES-256-GCM:+AEAD:+SIGN-ALL:+GROUP-ALL:" +
				"+COMP-NULL:+CTYPE-X509\n#%s",
			[]string{"TLS 1.2: TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384 TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256"},
			facts.ClientOrder},
		{"TLS 1.0, which its library still speaks",
			"TLSCipherSuite " +
				"NONE:+VERS-TLS1.0:+ECDHE-ECDSA:+AES-128-CBC:+SHA1:+SIGN-ALL:+GROUP-ALL:+COMP-NULL:+CTYPE-X509\n#%s",
			[]string{"TLS 1.0: TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA"}, ""},
		{"TLS 1.3 alone",
			"TLSCipherSuite NONE:+VERS-TLS1.3:+AES-256-GCM:+AEAD:+SIGN-ALL:+GROUP-ALL:+COMP-NULL:+CTYPE-X509\n#%s",
			[]string{"TLS 1.3: TLS_AES_256_GCM_SHA384"}, ""},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			o := visit(t, slapd(t, tt.settings), "ldap")
			assert.Equal(t, tt.want, accepted(o))
			assert.Equal(t, tt.order, orderOf(o, o.Versions[len(o.Versions)-1].Name)+orderOf(o, "TLS 1.2"))
			assert.Equal(t, facts.PossessionShown, o.Possession)
		})
	}
	t.Run("the catalogue's line for suites", func(t *testing.T) {
		e, err := judge.Explain("suite.weak-cipher")
		require.NoError(t, err)
		o := visit(t, slapd(t, lineFor(e.Edits, "slapd")+"\n#%s"), "ldap")
		assert.Equal(t, []string{"TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384", "TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256",
			"TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256"}, versionOf(o, "TLS 1.2").Suites)
	})
	t.Run("client certificates", func(t *testing.T) {
		o := visit(t, slapd(t, "TLSCACertificateFile %[1]s/rsa.crt\nTLSVerifyClient try\n"), "ldap")
		require.NotNil(t, o.ClientCertificate)
		assert.Len(t, o.ClientCertificate.Issuers, 1)
	})
}

// TestVsftpd: it cannot choose versions but by what the suites allow.
func TestVsftpd(t *testing.T) {
	tests := []struct {
		name, suites string
		want         []string
	}{
		{"suites of TLS 1.2", "ECDHE-RSA-AES256-GCM-SHA384:ECDHE-RSA-AES128-GCM-SHA256",
			[]string{"TLS 1.3: TLS_AES_256_GCM_SHA384 TLS_AES_128_GCM_SHA256 TLS_CHACHA20_POLY1305_SHA256",
				"TLS 1.2: TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384 TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256"}},
		{"a suite of all versions: the library's level refuses the old ones", "AES128-SHA",
			[]string{"TLS 1.3: TLS_AES_256_GCM_SHA384 TLS_AES_128_GCM_SHA256 TLS_CHACHA20_POLY1305_SHA256",
				"TLS 1.2: TLS_RSA_WITH_AES_128_CBC_SHA"}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			o := visit(t, vsftpd(t, "ssl_ciphers="+tt.suites), "ftp")
			assert.Equal(t, tt.want, accepted(o))
			assert.Equal(t, facts.PossessionShown, o.Possession)
		})
	}
}

// vsftpd runs the file server with a line of its own.
func vsftpd(t *testing.T, line string) netip.AddrPort {
	t.Helper()
	directory, address := place(t), free(t)
	material(t, directory, "rsa", "RSA")
	require.NoError(t, os.Mkdir(filepath.Join(directory, "empty"), 0o755))
	path := filepath.Join(directory, "vsftpd.conf")
	write(t, path, fmt.Appendf(nil,
		"background=NO\nlisten=YES\nlisten_address=%s\nlisten_port=%d\nssl_enable=YES\n"+
			"local_enable=YES\nanonymous_enable=NO\n"+
			"rsa_cert_file=%[3]s/rsa.crt\nrsa_private_key_file=%[3]s/rsa.key\nsecure_chroot_dir=%[3]s/empty\n%[4]s\n",
		address.Addr(), address.Port(), directory, line))
	run(t, address, nil, "/usr/sbin/vsftpd", path)
	return address
}

func TestProsody(t *testing.T) {
	tests := []struct {
		name, settings string
		want           []string
	}{
		{"TLS 1.2 alone",
			`protocol = "tlsv1_2"; ciphers = "ECDHE-ECDSA-AES128-GCM-SHA256:ECDHE-ECDSA-AES256-GCM-SHA384"; options = { cipher_server_preference = true };`,
			[]string{"TLS 1.2: TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256 TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384"}},
		{"TLS 1.3 alone",
			`protocol = "tlsv1_3"; ciphersuites = "TLS_AES_256_GCM_SHA384:TLS_AES_128_GCM_SHA256"; options = { cipher_server_preference = true };`, []string{"TLS 1.3: TLS_AES_256_GCM_SHA384 TLS_AES_128_GCM_SHA256"}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			client, server := prosody(t, tt.settings)
			for scheme, address := range map[string]netip.AddrPort{"xmpp": client, "xmpp-server": server} {
				o := visit(t, address, scheme)
				assert.Equal(t, tt.want, accepted(o), scheme)
				assert.Equal(t, facts.PossessionShown, o.Possession)
				assert.Equal(t, scheme == "xmpp-server", o.ClientCertificate != nil,
					"servers ask each other for certificates")
			}
		})
	}
}

func TestMariaDB(t *testing.T) {
	tests := []struct {
		name  string
		lines []string
		want  []string
	}{
		{"two versions", []string{"tls_version=TLSv1.2,TLSv1.3",
			"ssl-cipher=TLS_AES_128_GCM_SHA256:ECDHE-ECDSA-AES128-GCM-SHA256"},
			[]string{"TLS 1.3: TLS_AES_128_GCM_SHA256", "TLS 1.2: TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256"}},
		{"TLS 1.2 alone", []string{"tls_version=TLSv1.2",
			"ssl-cipher=ECDHE-ECDSA-AES256-GCM-SHA384:ECDHE-ECDSA-CHACHA20-POLY1305"},
			[]string{"TLS 1.2: TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384 TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256"}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			address := mariadb(t, tt.lines...)
			o := visit(t, address, "mysql")
			assert.Equal(t, tt.want, accepted(o))
			assert.Equal(t, facts.PossessionShown, o.Possession)
		})
	}
}

// mariadb runs the database server with further lines of configuration.
func mariadb(t *testing.T, more ...string) netip.AddrPort {
	t.Helper()
	directory, address := place(t), free(t)
	material(t, directory, "ec", "EC")
	require.NoError(t, os.Mkdir(filepath.Join(directory, "data"), 0o755))
	path := filepath.Join(directory, "my.cnf")
	write(t, path, fmt.Appendf(nil, `[mariadbd]
user = root
skip-grant-tables
datadir = %[1]s/data
socket = %[1]s/socket
pid-file = %[1]s/pid
bind-address = 127.0.0.1
port = %[2]d
ssl_cert = %[1]s/ec.crt
ssl_key = %[1]s/ec.key
%[3]s
`, directory, address.Port(), strings.Join(more, "\n")))
	run(t, address, nil, "/usr/sbin/mariadbd", "--defaults-file="+path)
	return address
}

// prosody runs the message server with settings of its ssl table.
func prosody(t *testing.T, settings string) (client, server netip.AddrPort) {
	t.Helper()
	directory := place(t)
	client, server = free(t), free(t)
	material(t, directory, "ec", "EC")
	require.NoError(t, os.Mkdir(filepath.Join(directory, "data"), 0o755))
	path := filepath.Join(directory, "prosody.cfg.lua")
	write(t, path, fmt.Appendf(nil, `
run_as_root = true
data_path = "%[1]s/data"
pidfile = "%[1]s/data/pid"
log = { warn = "%[1]s/data/log" }
interfaces = { "127.0.0.1" }
c2s_ports = { %[2]d }
s2s_ports = { %[3]d }
http_ports = {}
https_ports = {}
modules_enabled = { "tls"; "saslauth"; "dialback" }
c2s_require_encryption = true
s2s_require_encryption = true
ssl = { key = "%[1]s/ec.key"; certificate = "%[1]s/ec.crt"; %[4]s }
VirtualHost "%[5]s"
`, directory, client.Port(), server.Port(), settings, host))
	run(t, client, nil, "/usr/bin/prosody", "--config", path, "-F")
	return client, server
}
