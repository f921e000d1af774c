package serverconf_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/serverconf"
)

// TestSet edits lines as people write them.
func TestSet(t *testing.T) {
	tests := []struct {
		name, server, line, directive, value string
		want                                 string // "" where no edit of the line does it
	}{
		{"nginx", "nginx", "\tssl_protocols TLSv1;  # old", "ssl_protocols", "TLSv1.2",
			"\tssl_protocols TLSv1.2;  # old"},
		{"nginx, among others on the line", "nginx", "server { listen 443 ssl; ssl_protocols TLSv1; }", "ssl_protocols",
			"TLSv1.2", "server { listen 443 ssl; ssl_protocols TLSv1.2; }"},
		{"nginx, in a comment", "nginx", "listen 443; # ssl_protocols TLSv1;", "ssl_protocols", "TLSv1.2", ""},
		{"nginx, in a string", "nginx", `add_header X "; ssl_protocols TLSv1;";`, "ssl_protocols", "TLSv1.2", ""},
		{"nginx, over two lines", "nginx", "ssl_protocols TLSv1", "ssl_protocols", "TLSv1.2", ""},
		{"Apache", "Apache", "  SSLProtocol all", "SSLProtocol", "-all +TLSv1.2", "  SSLProtocol -all +TLSv1.2"},
		{"Apache, continued", "Apache", `SSLProtocol all \`, "SSLProtocol", "-all", ""},
		{"Postfix", "Postfix", "smtpd_tls_protocols=>=TLSv1 # all", "smtpd_tls_protocols", ">=TLSv1.2",
			"smtpd_tls_protocols=>=TLSv1.2 # all"},
		{"PostgreSQL", "PostgreSQL", "ssl_ciphers = 'ALL'", "ssl_ciphers", "HIGH", "ssl_ciphers = 'HIGH'"},
		{"Prosody, in a table", "Prosody", `ssl = { protocol = "tlsv1+"; key = "x" }`, "protocol", `"tlsv1_2+"`,
			`ssl = { protocol = "tlsv1_2+"; key = "x" }`},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			c := &facts.Configuration{Server: tt.server, Path: "/x"}
			c.Remember("/x", []string{tt.line, ""})
			s := facts.Setting{Directive: tt.directive, Line: facts.Line{File: "/x", Line: 1}}
			change, ok := serverconf.Set(c, s, tt.value, s)
			require.Equal(t, tt.want != "", ok)
			if ok {
				assert.Equal(t, []string{tt.want}, change.New)
			}
		})
	}
}

// TestPatchJoins: two changes of one line are both made where they change different parts of it.
func TestPatchJoins(t *testing.T) {
	const line = `ssl = { protocol = "tlsv1+"; ciphers = "ALL" }`
	change := func(now string) serverconf.Change {
		return serverconf.Change{File: "/x", Line: 1, Old: []string{line}, New: []string{now}}
	}
	protocol, ciphers := change(`ssl = { protocol = "tlsv1_2+"; ciphers = "ALL" }`),
		change(`ssl = { protocol = "tlsv1+"; ciphers = "HIGH" }`)
	patch := func(changes ...serverconf.Change) string {
		return serverconf.Patch(changes, func(string) []string { return []string{line, ""} },
			func(file string) string { return file })
	}
	const both = "--- /x\n+++ /x\n@@ -1,1 +1,1 @@\n-" + line + "\n+" + `ssl = { protocol = "tlsv1_2+"; ciphers = "HIGH" }` + "\n"
	assert.Equal(t, both, patch(protocol, ciphers))
	assert.Equal(t, both, patch(ciphers, protocol))
	assert.Equal(t, both, patch(ciphers, protocol, change(`ssl = { protocol = "tlsv1+"; ciphers = "MEDIUM" }`)),
		"of two changes of one part the first is made")
	assert.Equal(t, patch(protocol), patch(protocol, protocol))
}
