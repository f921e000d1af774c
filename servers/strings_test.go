//go:build servers

package servers_test

import (
	"fmt"
	"net/netip"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/ciphers"
	"nurvik/core/facts"
	"nurvik/core/serverconf"
)

// openSSLStrings are lists of OpenSSL's language, each for a server of its own.
var openSSLStrings = []string{
	"DEFAULT", "ALL", "HIGH", "HIGH:MEDIUM", "ALL:!aNULL", "ALL:@STRENGTH",
	"HIGH:!aNULL:!MD5", "ECDHE", "ECDHE+AESGCM",
	"kRSA", "AES128", "AES256:AES128", "ARIA+ECDHE:AES", "CAMELLIA+kRSA:AES256-SHA", "CHACHA20", "SHA1",
	"SHA256:SHA384",
	"ECDHE-ECDSA-AES128-GCM-SHA256:ECDHE-RSA-AES128-GCM-SHA256", "AESCCM:AES128-SHA", "aECDSA", "aRSA",
	"ALL:-SHA1:+AES256", "ALL:!ECDHE", "HIGH:!kRSA:!SHA1", "DEFAULT:@SECLEVEL=0", "ALL:COMPLEMENTOFALL:@SECLEVEL=0",
	"ECDHE+HIGH:-AES128:AES128", "AES:!AESGCM", "HIGH:+kRSA:+SHA", "AESGCM:AESCCM:-ECDHE:ECDHE+AESGCM",
	"ECDHE+CHACHA20:ECDHE+AES256:!SHA1:!ARIA", "RSA+AES:@STRENGTH",
}

// TestOpenSSLStrings visits a server for each list: what is read from its configuration is what it accepts.
func TestOpenSSLStrings(t *testing.T) {
	var further strings.Builder
	addresses := make([]netip.AddrPort, len(openSSLStrings))
	for i, list := range openSSLStrings {
		addresses[i] = free(t)
		fmt.Fprintf(&further, "server { listen %s ssl; server_name %s;\n%s\nssl_protocols TLSv1 TLSv1.1 TLSv1.2;\n"+
			"ssl_prefer_server_ciphers on;\nssl_ciphers %q;\n}\n", addresses[i], host, bothKeys, list)
	}
	nginx(t, onlyEC, strings.ReplaceAll(further.String(), "%", "%%")+"# %s\n")
	for i, list := range openSSLStrings {
		t.Run(list, func(t *testing.T) { agrees(t, "nginx", addresses[i], "https") })
	}
}

// priorityStrings are of GnuTLS's language.
var priorityStrings = []string{
	"NORMAL", "SECURE128", "SECURE192", "SECURE256", "PFS", "PERFORMANCE", "LEGACY", "NORMAL:-VERS-TLS1.3",
	"NORMAL:-VERS-ALL:+VERS-TLS1.2", "NORMAL:-VERS-ALL:+VERS-TLS1.2:%SERVER_PRECEDENCE", "NORMAL:-RSA:-AES-128-CBC",
	"SECURE256:+SECURE128:-VERS-TLS1.3", "NORMAL:-CIPHER-ALL:+AES-256-GCM:+AES-256-CBC",
	"NORMAL:+VERS-TLS1.0:+VERS-TLS1.1", "NORMAL:-MAC-ALL:+AEAD", "NORMAL:-KX-ALL:+ECDHE-ECDSA",
	"NONE:+VERS-TLS1.2:+ECDHE-ECDSA:+CHACHA20-POLY1305:+CAMELLIA-128-GCM:+AEAD:+SIGN-ALL:+GROUP-ALL:+COMP-NULL",
}

// TestPriorityStrings is the same for GnuTLS, by the directory and the mail server that are built on it.
func TestPriorityStrings(t *testing.T) {
	for i, list := range priorityStrings {
		t.Run("slapd "+list, func(t *testing.T) {
			agrees(t, "slapd", slapd(t, "TLSCipherSuite "+strings.ReplaceAll(list, "%", "%%")+"\n#%s"), "ldap")
		})
		if i%8 == 0 { // each visit of this one takes its time
			t.Run("Exim "+list, func(t *testing.T) {
				agrees(t, "Exim", exim(t, "tls_require_ciphers = "+list), "smtp")
			})
		}
	}
}

// TestSystemMinimum: which servers the oldest version in the library's own configuration binds, and which set it anew.
func TestSystemMinimum(t *testing.T) {
	path := filepath.Join(place(t), "openssl.cnf")
	write(t, path, []byte("openssl_conf = a\n[a]\nssl_conf = b\n[b]\nsystem_default = c\n[c]\nMinProtocol = TLSv1.3\n"))
	t.Setenv("OPENSSL_CONF", path)
	for name, start := range map[string]func() (netip.AddrPort, string){
		"nginx": func() (netip.AddrPort, string) {
			return nginx(t, onlyEC+"ssl_protocols TLSv1.2 TLSv1.3;", ""), "https"
		},
		"Apache": func() (netip.AddrPort, string) {
			address, _ := apache(t, apacheEC, "", "")
			return address, "https"
		},
		"HAProxy":  func() (netip.AddrPort, string) { return haproxy(t, "crt %s/ec.both"), "https" },
		"Postfix":  func() (netip.AddrPort, string) { return postfix(t, "#%s"), "smtp" },
		"Dovecot":  func() (netip.AddrPort, string) { return dovecot(t, "#%s")["imaps"], "imaps" },
		"vsftpd":   func() (netip.AddrPort, string) { return vsftpd(t, "ssl_ciphers=HIGH"), "ftp" },
		"lighttpd": func() (netip.AddrPort, string) { return lighttpd(t, "#%s"), "https" },
		"Prosody": func() (netip.AddrPort, string) {
			client, _ := prosody(t, "")
			return client, "xmpp"
		},
		"PostgreSQL": func() (netip.AddrPort, string) { return postgres(t), "postgres" },
		"MariaDB":    func() (netip.AddrPort, string) { return mariadb(t), "mysql" },
	} {
		kind, err := serverconf.Find(name)
		require.NoError(t, err)
		address, scheme := start()
		o := outcomeOf(t, address, scheme, host, facts.Quick)
		assert.Equal(t, facts.Accepted, versionOf(o, "TLS 1.3").Answer, name)
		bound := versionOf(o, "TLS 1.2").Answer != facts.Accepted
		assert.Equal(t, kind.SystemVersions, bound, name)
	}
}

// agrees visits a server, which holds its configuration to what it shows.
func agrees(t *testing.T, server string, address netip.AddrPort, scheme string) {
	t.Helper()
	before := compared[server]
	o := visit(t, address, scheme)
	assert.Greater(t, compared[server], before, "a configuration was compared")
	assert.NotEmpty(t, accepted(o))
}

// javaStrings are cipher suites and versions that a program of Java switches on; none leaves it to the runtime.
var javaStrings = []struct{ versions, suites string }{
	{"", ""},
	{"TLSv1.2", ""},
	{"TLSv1.3", ""},
	{"TLSv1.3,TLSv1.2,TLSv1.1,TLSv1", ""},
	{"TLSv1.2", "TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256"},
	{"TLSv1.2", "TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384,TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA"},
	{"TLSv1.3,TLSv1.2", "TLS_AES_256_GCM_SHA384,TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256"},
	{"TLSv1.3", "TLS_CHACHA20_POLY1305_SHA256,TLS_AES_128_GCM_SHA256"},
	{"TLSv1.3,TLSv1.2", "TLS_AES_128_GCM_SHA256"},
	{"TLSv1.2", "TLS_RSA_WITH_AES_128_CBC_SHA,TLS_ECDHE_ECDSA_WITH_AES_256_CBC_SHA384"},
	{"TLSv1.2", "TLS_ECDH_anon_WITH_AES_128_CBC_SHA,TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA256"},
	{"TLSv1.2,TLSv1.1", "TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA"},
}

// disabledInJava are algorithms that are disabled beside those of the runtime.
var disabledInJava = []string{"", "AES128", "AES_256_GCM, SHA384", "TLSv1.3, CBC"}

// TestJavaStrings visits the sockets of a small program, under what its runtime disables and more.
func TestJavaStrings(t *testing.T) {
	directory := place(t)
	material(t, directory, "ec", "EC")
	store := filepath.Join(directory, "store.p12")
	said, err := exec.Command("openssl", "pkcs12", "-export", "-in", filepath.Join(directory, "ec.crt"), "-inkey",
		filepath.Join(directory, "ec.key"), "-out", store, "-passout", "pass:harbour", "-name", "ec").CombinedOutput()
	require.NoError(t, err, string(said))
	tomcat := filepath.Join(directory, "server.xml")
	write(t, tomcat, []byte(`<Server><Connector port="8443" SSLEnabled="true"/></Server>`))
	library := serverconf.Read(&serverconf.Machine{}, "Tomcat", tomcat).Library
	release, err := strconv.Atoi(library.Version)
	require.NoError(t, err, "the runtime of this machine is known: %+v", library)
	for _, more := range disabledInJava {
		disabled := strings.Trim(library.Disabled+", "+more, ", ")
		properties := filepath.Join(directory, "security")
		write(t, properties, fmt.Appendf(nil, "jdk.tls.disabledAlgorithms=%s\n", disabled))
		arguments := []string{"-Djava.security.properties=" + properties, filepath.Join("testdata", "Listen.java"),
			store}
		addresses := make([]netip.AddrPort, len(javaStrings))
		for i, x := range javaStrings {
			addresses[i] = free(t)
			arguments = append(arguments, fmt.Sprintf("%d;%s;%s", addresses[i].Port(), x.versions, x.suites))
		}
		run(t, addresses[len(addresses)-1], nil, "/usr/bin/java", arguments...)
		runtime := ciphers.Java{Major: release, Disabled: disabled}
		for i, x := range javaStrings {
			t.Run(fmt.Sprintf("%q %s %s", more, x.versions, x.suites), func(t *testing.T) {
				o := outcome(t, addresses[i], "tls")
				names := strings.FieldsFunc(x.versions, func(c rune) bool { return c == ',' })
				if len(names) == 0 {
					names = []string{"TLSv1.3", "TLSv1.2"}
				}
				versions, unknown := runtime.Versions(names)
				assert.Empty(t, unknown)
				allowed := runtime.Default()
				if x.suites != "" {
					allowed = runtime.List(strings.Split(x.suites, ","))
				}
				want := []string{}
				for _, v := range runtime.Accepts(allowed, ciphers.Server{Versions: versions, ECDSA: true, DHE: true}) {
					suites := []string{}
					for _, s := range v.Suites {
						suites = append(suites, s.String())
					}
					want = append(want, v.Version.String()+": "+strings.Join(suites, " "))
				}
				assert.Equal(t, unordered(want), unordered(accepted(o)), "disabled: %s", disabled)
			})
		}
	}
}
