//go:build servers

package servers_test

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/policy"
	"nurvik/core/trust"
)

// TestRemediesRepair puts the lines that findings name into the configuration
// of a server whose TLS library is set to allow everything: the finding is gone.
func TestRemediesRepair(t *testing.T) {
	const all = "ALL:@SECLEVEL=0"
	servers := []struct {
		name, scheme string
		bad          string // the line of a careless configuration, which comes without the good one
		run          func(line string) netip.AddrPort
		codes        []string
	}{
		{"nginx", "https", "ssl_protocols TLSv1 TLSv1.1 TLSv1.2; ssl_ciphers " + all + ";",
			func(line string) netip.AddrPort { return nginx(t, bothKeys+line, "") },
			[]string{"proto.obsolete", "suite.anonymous", "suite.no-forward-secrecy"}},
		{"Apache", "https", "SSLProtocol all\nSSLCipherSuite " + all, func(line string) netip.AddrPort {
			address, _ := apache(t, apacheEC+apacheRSA+line, "", "")
			return address
		},
			[]string{"proto.obsolete", "suite.no-forward-secrecy"}},
		{"HAProxy", "https", "ssl-default-bind-options ssl-min-ver TLSv1.0\n  ssl-default-bind-ciphers " + all,
			func(line string) netip.AddrPort { return haproxyWith(t, line, "crt %s/rsa.both") },
			[]string{"proto.obsolete", "suite.no-forward-secrecy"}},
		{"Postfix", "smtp", "smtpd_tls_protocols = >=TLSv1\ntls_medium_cipherlist = " + all,
			func(line string) netip.AddrPort { return postfix(t, line+"\n#%s") },
			[]string{"proto.obsolete", "suite.no-forward-secrecy"}},
		{"Dovecot", "imap", "ssl_min_protocol = TLSv1\nssl_cipher_list = " + all,
			func(line string) netip.AddrPort { return dovecot(t, line+"\n#%s")["imap"] },
			[]string{"proto.obsolete"}},
		{"slapd", "ldap", "TLSCipherSuite NORMAL:+VERS-TLS1.0",
			func(line string) netip.AddrPort { return slapd(t, strings.ReplaceAll(line, "%", "%%")+"\n#%s") },
			[]string{"proto.obsolete"}},
		{"vsftpd", "ftp", "ssl_ciphers=" + all, func(line string) netip.AddrPort { return vsftpd(t, line) },
			[]string{"suite.no-forward-secrecy"}},
		{"Prosody", "xmpp", "protocol = \"tlsv1+\"\nciphers = \"" + all + "\"", func(line string) netip.AddrPort {
			client, _ := prosody(t, strings.ReplaceAll(line, "\n", "; "))
			return client
		}, []string{"proto.obsolete"}},
		{"MariaDB", "mysql", "tls_version = TLSv1.0,TLSv1.1,TLSv1.2\nssl_cipher = " + all,
			func(line string) netip.AddrPort {
				return mariadb(t, line)
			}, []string{"proto.obsolete"}},
	}
	for _, s := range servers {
		t.Run(s.name, func(t *testing.T) {
			before := findingsOf(t, s.run(s.bad), s.scheme)
			for _, code := range s.codes {
				require.Contains(t, before, code, "the careless configuration shows it")
				line := lineFor(before[code].Edits, s.name)
				require.NotEmpty(t, line)
				line = strings.TrimSuffix(strings.TrimPrefix(line, "ssl = { "), " }") // Prosody's stand in a table
				assert.NotContains(t, findingsOf(t, s.run(mended(s.bad, line)), s.scheme), code, line)
			}
		})
	}
}

// lineFor is the line of a remedy for a server.
func lineFor(edits []judge.Edit, server string) string {
	for _, edit := range edits {
		if edit.Server == server {
			return edit.Line
		}
	}
	return ""
}

// mended puts a good line in the place of the bad one with the same key, and beside the others.
func mended(bad, line string) string {
	key := func(text string) string {
		return strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == '=' })[0]
	}
	var out []string
	for _, b := range strings.FieldsFunc(bad, func(r rune) bool { return r == '\n' || r == ';' }) {
		if b = strings.TrimSpace(b); key(b) != key(line) {
			if strings.HasSuffix(strings.TrimSpace(line), ";") {
				b += ";"
			}
			out = append(out, b)
		}
	}
	return strings.Join(append(out, line), "\n")
}

// findingsOf are the findings that a visit and its judgement lead to, by code.
func findingsOf(t *testing.T, address netip.AddrPort, scheme string) map[string]judge.Finding {
	t.Helper()
	o := visit(t, address, scheme)
	p, err := policy.Builtin(policy.Default)
	require.NoError(t, err)
	j := judge.Endpoint(facts.Endpoint{Schema: facts.Schema, Endpoint: scheme + "://" + host,
		Observations: []facts.Observation{o}}, judge.Context{Policy: p, Trust: []*trust.Store{trust.New("none", nil)},
		At: time.Now()})
	out := map[string]judge.Finding{}
	for _, f := range j.Findings {
		out[f.Code] = f
	}
	return out
}
