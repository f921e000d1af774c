package serverconf_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/serverconf"
)

func put(t *testing.T, path string, text string) string {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	return path
}

// doubling are settings that each name the next one twice.
func doubling(form string, levels int) string {
	var out strings.Builder
	for i := range levels {
		fmt.Fprintf(&out, form, i, i+1, i+1)
	}
	return out.String()
}

// TestHostile: what has no end is a trouble, and takes no time.
func TestHostile(t *testing.T) {
	tests := []struct {
		name, server string
		make         func(t *testing.T, directory string) string
		code         facts.Code
	}{
		{"a cycle of includes", "nginx", func(t *testing.T, d string) string {
			put(t, d+"/b.conf", "include a.conf;")
			return put(t, d+"/a.conf", "include b.conf;")
		}, facts.ConfCycle},
		{"a chain of includes", "nginx", func(t *testing.T, d string) string {
			for i := range 50 {
				put(t, fmt.Sprintf("%s/%d.conf", d, i), fmt.Sprintf("include %d.conf;", i+1))
			}
			return d + "/0.conf"
		}, facts.ConfTooDeep},
		{"a pattern that matches very many files", "nginx", func(t *testing.T, d string) string {
			empty := put(t, d+"/many/0.conf", "")
			for i := range 20_100 {
				require.NoError(t, os.Link(empty, fmt.Sprintf("%s/many/x%d.conf", d, i)))
			}
			return put(t, d+"/nginx.conf", "include many/*.conf;")
		}, facts.ConfTooManyFiles},
		{"a file of 100 MB in one line", "Apache", func(t *testing.T, d string) string {
			path := put(t, d+"/apache2.conf", "")
			require.NoError(t, os.Truncate(path, 100<<20))
			return path
		}, facts.ConfTooLarge},
		{"a long line", "Apache", func(t *testing.T, d string) string {
			return put(t, d+"/apache2.conf", strings.Repeat("x", 2<<20))
		}, facts.ConfLongLine},
		{"deep blocks", "nginx", func(t *testing.T, d string) string {
			return put(t, d+"/nginx.conf", strings.Repeat("a {", 100_000))
		}, facts.ConfTooDeep},
		{"variables that name others twice", "Postfix", func(t *testing.T, d string) string {
			return put(t, d+"/main.cf", doubling("v%d = $v%d$v%d\n",
				60)+"smtpd_tls_security_level = may\nsmtpd_tls_cert_file = $v0\n")
		}, facts.ConfEndless},
		{"a variable that names itself", "Postfix", func(t *testing.T, d string) string {
			return put(t, d+"/main.cf", "a = $a\nsmtpd_tls_security_level = may\nsmtpd_tls_cert_file = $a\n")
		}, facts.ConfEndless},
		{"definitions that grow", "Apache", func(t *testing.T, d string) string {
			text := "Define v60 xxxxxxxx\n"
			for i := 59; i >= 0; i-- {
				text += fmt.Sprintf("Define v%d ${v%d}${v%d}\n", i, i+1, i+1)
			}
			return put(t, d+"/apache2.conf", text+"ServerName ${v0}\n")
		}, facts.ConfEndless},
		{"macros that name themselves", "Exim", func(t *testing.T, d string) string {
			return put(t, d+"/exim.conf",
				"AAA = xAAAx\nBBB == AAAAAA\ntls_certificate = BBB\nbegin acl\nbegin routers\n")
		}, facts.ConfEndless},
		{"a macro that uses itself", "Apache", func(t *testing.T, d string) string {
			return put(t, d+"/apache2.conf", "<Macro M $a>\nUse M $a\n</Macro>\nUse M x\n")
		}, facts.ConfTooDeep},
		{"deep tables", "Prosody", func(t *testing.T, d string) string {
			return put(t, d+"/prosody.cfg.lua", "x = "+strings.Repeat("{",
				100_000)+"\nVirtualHost \"a\"\nssl = { protocol = \"x\" }")
		}, ""},
		{"deep elements", "Tomcat", func(t *testing.T, d string) string {
			return put(t, d+"/server.xml", strings.Repeat("<a>", 100_000))
		}, ""},
		{"an entity that names others", "Tomcat", func(t *testing.T, d string) string {
			return put(t, d+"/server.xml", `<!DOCTYPE x [<!ENTITY a "b"><!ENTITY c "&a;&a;">]><Server x="&c;"></Server>`)
		}, facts.ConfSyntax},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			began := time.Now()
			c := serverconf.Read(&serverconf.Machine{}, tt.server, tt.make(t, t.TempDir()))
			assert.Less(t, time.Since(began), 20*time.Second, "it is bounded")
			if tt.code == "" {
				return
			}
			var codes []facts.Code
			for _, x := range c.Troubles {
				codes = append(codes, x.Reason.Code)
			}
			assert.Contains(t, codes, tt.code)
		})
	}
}

// FuzzRead reads arbitrary bytes as the main file of each server.
func FuzzRead(f *testing.F) {
	servers := serverconf.Servers()
	for _, root := range []string{"nginx", "apache", "haproxy", "postfix", "dovecot", "slapd", "postgresql", "mariadb",
		"vsftpd",
		"exim", "lighttpd", "prosody", "tomcat", "nginx-broken", "apache-broken"} {
		_ = filepath.WalkDir("testdata/"+root, func(path string, d os.DirEntry, err error) error {
			if err == nil && d.Type().IsRegular() {
				data, _ := os.ReadFile(path)
				r := serverconf.Recognise(path, data)
				for i, s := range servers {
					if s.Name == r.Server {
						f.Add(byte(i), data)
					}
				}
			}
			return nil
		})
	}
	f.Fuzz(func(t *testing.T, which byte, data []byte) {
		server := servers[int(which)%len(servers)]
		path := filepath.Join(t.TempDir(), "main")
		require.NoError(t, os.WriteFile(path, data, 0o600))
		_ = serverconf.Recognise("/x/"+filepath.Base(path), data)
		root := t.TempDir() // so that nothing of this machine is read
		c := serverconf.Read(&serverconf.Machine{Root: root}, server.Name, path)
		for _, s := range c.Sites {
			for _, v := range s.Versions {
				require.NotEmpty(t, v)
			}
		}
	})
}
