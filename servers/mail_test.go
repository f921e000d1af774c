//go:build servers

package servers_test

import (
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
)

// postfixMaster are the services that receive mail at an address.
const postfixMaster = `
%s inet n - n - - smtpd
tlsmgr unix - - n 1000? 1 tlsmgr
anvil unix - - n - 1 anvil
proxymap unix - - n - - proxymap
rewrite unix - - n - - trivial-rewrite
postlog unix-dgram n - n - 1 postlogd
`

// postfix runs the mail server's receiving side with the settings.
func postfix(t *testing.T, settings string) netip.AddrPort {
	t.Helper()
	directory, address := place(t), free(t)
	material(t, directory, "ec", "EC")
	material(t, directory, "rsa", "RSA")
	configuration := filepath.Join(directory, "conf")
	for _, name := range []string{"conf", "data", "queue"} {
		require.NoError(t, os.Mkdir(filepath.Join(directory, name), 0o755))
	}
	require.NoError(t, os.Chown(filepath.Join(directory, "data"), userID(t, "postfix"), -1))
	write(t, filepath.Join(configuration, "main.cf"), fmt.Appendf(nil, `
compatibility_level = 3.6
queue_directory = %[1]s/queue
data_directory = %[1]s/data
maillog_file = /dev/stdout
inet_interfaces = 127.0.0.1
inet_protocols = ipv4
myhostname = %[2]s
mydestination =
smtpd_tls_security_level = may
smtpd_tls_cert_file = %[1]s/rsa.crt
smtpd_tls_key_file = %[1]s/rsa.key
%[3]s
`, directory, host, fmt.Sprintf(settings, directory)))
	write(t, filepath.Join(configuration, "master.cf"), fmt.Appendf(nil, postfixMaster, address))
	run(t, address, nil, "/usr/sbin/postfix", "-c", configuration, "start-fg")
	t.Cleanup(func() { _ = exec.Command("/usr/sbin/postfix", "-c", configuration, "stop").Run() })
	return address
}

func TestPostfix(t *testing.T) {
	tests := []struct {
		name, settings string
		want           []string
		others         []string
	}{
		{"two kinds of key",
			"smtpd_tls_eccert_file = %[1]s/ec.crt\nsmtpd_tls_eckey_file = " +
				"%[1]s/ec.key\nsmtpd_tls_mandatory_ciphers = high\nsmtpd_tls_ciphers = high\ntls_high_cipherlist " +
				"= ECDHE-ECDSA-AES128-GCM-SHA256:ECDHE-RSA-AES128-GCM-SHA256\nsmtpd_tls_protocols = TLSv1.2\n",
			[]string{"TLS 1.2: TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256 TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256"},
			[]string{"other-key RSA " + host}},
		{"the server's order",
			"tls_preempt_cipherlist = yes\nsmtpd_tls_ciphers = high\ntls_high_cipherlist = " +
				"ECDHE-RSA-AES128-GCM-SHA256:ECDHE-RSA-AES256-GCM-SHA384\nsmtpd_tls_protocols = >=TLSv1.2\n#%s",
			[]string{newest, "TLS 1.2: TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256 TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384"},
			nil},
		{"TLS 1.0 at a lowered level",
			"tls_preempt_cipherlist = yes\nsmtpd_tls_ciphers = high\ntls_high_cipherlist = " +
				"AES128-SHA:@SECLEVEL=0\nsmtpd_tls_protocols = <=TLSv1.1\n#%s",
			[]string{"TLS 1.1: TLS_RSA_WITH_AES_128_CBC_SHA", "TLS 1.0: TLS_RSA_WITH_AES_128_CBC_SHA"}, nil},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			o := visit(t, postfix(t, tt.settings), "smtp")
			assert.Equal(t, tt.want, accepted(o))
			assert.Equal(t, tt.others, others(t, o))
			assert.Equal(t, facts.PossessionShown, o.Possession)
		})
	}
	t.Run("client certificates", func(t *testing.T) {
		o := visit(t, postfix(t, "smtpd_tls_ask_ccert = yes\nsmtpd_tls_CAfile = %[1]s/ec.crt\n"), "smtp")
		require.NotNil(t, o.ClientCertificate)
		assert.Len(t, o.ClientCertificate.Issuers, 1)
	})
	t.Run("no TLS at all", func(t *testing.T) {
		address := postfix(t, "smtpd_tls_security_level = none\n#%s")
		o := outcome(t, address, "smtp")
		assert.Equal(t, facts.DialogueRefused, o.Outcome)
		assert.Equal(t, facts.Because(facts.UpgradeMissing, "STARTTLS"), o.Detail)
	})
}

// dovecotPorts are where the mail box server listens, by scheme.
func dovecot(t *testing.T, settings string) map[string]netip.AddrPort {
	t.Helper()
	directory := place(t)
	material(t, directory, "ec", "EC")
	material(t, directory, "rsa", "RSA")
	ports := map[string]netip.AddrPort{}
	for _, scheme := range []string{"imap", "imaps", "pop3", "pop3s", "sieve", "lmtp"} {
		ports[scheme] = free(t)
	}
	listener := func(name, scheme, more string) string {
		return fmt.Sprintf("  inet_listener %s {\n    address = 127.0.0.1\n    port = %d\n    %s\n  }\n", name,
			ports[scheme].Port(), more)
	}
	path := filepath.Join(directory, "dovecot.conf")
	write(t, path, fmt.Appendf(nil, `
base_dir = %[1]s/run
state_dir = %[1]s/run
log_path = /dev/stderr
protocols = imap pop3 lmtp sieve
ssl = required
ssl_cert = <%[1]s/ec.crt
ssl_key = <%[1]s/ec.key
%[2]s
passdb {
  driver = static
}
userdb {
  driver = static
  args = uid=%[3]s gid=%[3]s home=/nonexistent
}
service imap-login {
%[4]s%[5]s}
service pop3-login {
%[6]s%[7]s}
service managesieve-login {
%[8]s}
service lmtp {
%[9]s}
`, directory, fmt.Sprintf(settings, directory), strconv.Itoa(userID(t, "nobody")), listener("imap", "imap", ""), listener("imaps", "imaps", "ssl = yes"),
		listener("pop3", "pop3", ""), listener("pop3s", "pop3s", "ssl = yes"), listener("sieve", "sieve", ""),
		listener("lmtp", "lmtp", "")))
	run(t, ports["imap"], nil, "/usr/sbin/dovecot", "-F", "-c", path)
	return ports
}

func TestDovecot(t *testing.T) {
	ports := dovecot(t,
		"ssl_min_protocol = TLSv1.2\nssl_prefer_server_ciphers = yes\nssl_cipher_list = "+
			"ECDHE-ECDSA-AES128-GCM-SHA256:ECDHE-ECDSA-AES256-GCM-SHA384\n#%s")
	for scheme, address := range ports {
		t.Run(scheme, func(t *testing.T) {
			o := visit(t, address, scheme)
			assert.Equal(t, []string{newest,
				"TLS 1.2: TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256 TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384"},
				accepted(o))
			assert.Equal(t, facts.ServerOrder, orderOf(o, "TLS 1.2"))
			assert.Equal(t, facts.PossessionShown, o.Possession)
		})
	}
	t.Run("two kinds of key", func(t *testing.T) {
		o := visit(t, dovecot(t, "ssl_alt_cert = <%[1]s/rsa.crt\nssl_alt_key = <%[1]s/rsa.key\n")["imaps"], "imaps")
		assert.Equal(t, []string{"other-key RSA " + host}, others(t, o))
	})
	t.Run("TLS 1.1 at a lowered level", func(t *testing.T) {
		o := visit(t, dovecot(t,
			"ssl_min_protocol = TLSv1.1\nssl_cipher_list = ECDHE-ECDSA-AES128-SHA:@SECLEVEL=0\n#%s")["imap"], "imap")
		assert.Equal(t, facts.Accepted, versionOf(o, "TLS 1.1").Answer)
		assert.Equal(t, facts.Declined, versionOf(o, "TLS 1.0").Answer)
	})
	t.Run("client certificates", func(t *testing.T) {
		o := visit(t, dovecot(t, "ssl_ca = <%[1]s/rsa.crt\nssl_verify_client_cert = yes\n")["imap"], "imap")
		assert.NotNil(t, o.ClientCertificate)
	})
}
