//go:build servers

package servers_test

import (
	"context"
	"net/netip"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/judge"
	"nurvik/core/limits"
	"nurvik/core/probe"
	"nurvik/internal/audit"
	"nurvik/internal/vantage"
)

// TestPatchIsTaken applies the patch for a careless configuration: the server itself takes what comes out, the findings
// are gone, and none is new.
func TestPatchIsTaken(t *testing.T) {
	const all = "ALL:@SECLEVEL=0"
	servers := []struct {
		name  string
		run   func(t *testing.T) netip.AddrPort // of the careless configuration
		codes []string                          // that are told of it, at the least
		check func(path string) []string        // how the server checks a configuration
	}{
		{"nginx", func(t *testing.T) netip.AddrPort {
			return nginx(t, bothKeys+"ssl_protocols TLSv1 TLSv1.1 TLSv1.2 TLSv1.3;\n ssl_ciphers "+all+";", "")
		}, []string{"config.obsolete-protocol", "suite.anonymous"},
			func(path string) []string {
				return []string{"/usr/sbin/nginx", "-t", "-p", filepath.Dir(path), "-c", "nginx.conf", "-e", "stderr"}
			}},
		{"Apache", func(t *testing.T) netip.AddrPort {
			address, _ := apache(t, apacheRSA+"SSLProtocol all\nSSLCipherSuite AES128-SHA:@SECLEVEL=0", "", "")
			return address
		}, []string{"config.obsolete-protocol", "suite.no-forward-secrecy"},
			func(path string) []string {
				return []string{"/usr/sbin/apache2", "-t", "-d", filepath.Dir(path), "-f", path}
			}},
		{"HAProxy", func(t *testing.T) netip.AddrPort {
			return haproxyWith(t, "ssl-default-bind-options ssl-min-ver TLSv1.0\n  ssl-default-bind-ciphers "+all,
				"crt %s/rsa.both")
		}, []string{"config.obsolete-protocol"},
			func(path string) []string { return []string{"/usr/sbin/haproxy", "-c", "-f", path} }},
		{"Postfix", func(t *testing.T) netip.AddrPort {
			return postfix(t, "smtpd_tls_protocols = >=TLSv1\ntls_medium_cipherlist = "+all+"\n#%s")
		}, []string{"config.obsolete-protocol"},
			func(path string) []string {
				return []string{"/usr/sbin/postconf", "-c", filepath.Dir(path), "-x", "smtpd_tls_protocols"}
			}},
		{"Dovecot", func(t *testing.T) netip.AddrPort {
			return dovecot(t, "ssl_min_protocol = TLSv1\nssl_cipher_list = "+all+"\n#%s")["imap"]
		}, []string{"config.obsolete-protocol"},
			func(path string) []string { return []string{"/usr/bin/doveconf", "-n", "-c", path} }},
		{"slapd", func(t *testing.T) netip.AddrPort {
			return slapd(t, "TLSCipherSuite NORMAL:+VERS-TLS1.0\n#%s")
		}, []string{"config.obsolete-protocol"},
			func(path string) []string { return []string{"/usr/sbin/slaptest", "-u", "-f", path} }},
		{"lighttpd", func(t *testing.T) netip.AddrPort {
			return lighttpd(t, `ssl.cipher-list = "ALL:@SECLEVEL=0"`+"\n#%s")
		}, []string{"suite.anonymous"},
			func(path string) []string { return []string{"/usr/sbin/lighttpd", "-tt", "-f", path} }},
		{"Prosody", func(t *testing.T) netip.AddrPort {
			client, _ := prosody(t, `protocol = "tlsv1+"; ciphers = "`+all+`";`)
			return client
		}, []string{"config.obsolete-protocol"},
			func(path string) []string { return []string{"/usr/bin/luac5.4", "-p", path} }},
		{"PostgreSQL", func(t *testing.T) netip.AddrPort {
			return postgres(t, "ssl_min_protocol_version = 'TLSv1'", "ssl_ciphers = '"+all+"'")
		}, []string{"config.obsolete-protocol"}, func(path string) []string {
			return []string{last.Path, "-D", filepath.Dir(path), "-C", "ssl_ciphers"}
		}},
		{"MariaDB", func(t *testing.T) netip.AddrPort {
			return mariadb(t, "tls_version = TLSv1.0,TLSv1.1,TLSv1.2,TLSv1.3", "ssl_cipher = "+all)
		}, []string{"config.obsolete-protocol"}, func(path string) []string {
			return []string{"/usr/sbin/mariadbd", "--defaults-file=" + path, "--help", "--verbose"}
		}},
	}
	for _, s := range servers {
		t.Run(s.name, func(t *testing.T) {
			s.run(t)
			r := configured[slices.IndexFunc(configured, func(r running) bool { return r.server == s.name })]
			before, patch := auditedAt(t, r.path)
			for _, code := range s.codes {
				assert.Contains(t, before, code, "the careless configuration shows it")
			}
			require.NotEmpty(t, patch)
			apply := exec.Command("patch", "-p0", "-d", "/")
			apply.Stdin = strings.NewReader(patch)
			said, err := apply.CombinedOutput()
			require.NoError(t, err, "%s\n%s", said, patch)

			call := s.check(r.path)
			check := exec.CommandContext(t.Context(), call[0], call[1:]...)
			if last.as != nil {
				check.SysProcAttr, check.Dir = last.SysProcAttr, "/"
			}
			said, err = check.CombinedOutput()
			assert.NoError(t, err, "%s\n%s", said, patch)
			after, rest := auditedAt(t, r.path)
			for code, n := range after {
				assert.LessOrEqual(t, n, before[code], "%s is new\n%s", code, patch)
			}
			for _, code := range s.codes {
				assert.NotContains(t, after, code, "the patch repairs it\n%s", patch)
			}
			assert.Empty(t, rest, "nothing is left to repair")
		})
	}
}

// auditedAt audits a configuration as "nurvik audit" does: how often each code was found in it, and the patch.
func auditedAt(t *testing.T, path string) (map[string]int, string) {
	t.Helper()
	plan, err := audit.NewPlan(t.Context(), audit.Request{Targets: []string{path}, Servers: true})
	require.NoError(t, err)
	network, err := vantage.Network(vantage.NameServer{})
	require.NoError(t, err)
	report := plan.Run(context.Background(), audit.Options{Prober: probe.New(network, limits.Limits{}), At: time.Now()})
	codes := map[string]int{}
	for _, target := range report.Targets {
		if target.Kind == "configuration" {
			for _, f := range target.Findings {
				if f.Severity != judge.None {
					codes[f.Code]++
				}
			}
		}
	}
	return codes, report.Patch()
}
