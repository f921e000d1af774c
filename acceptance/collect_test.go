package acceptance

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"encoding/pem"
	"io"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/api"
)

// planted is in places of configuration where people write passwords, and where a mistake puts them.
const planted = "Wreck-Buoy-77!Xq"

// plantedFiles are configurations with the password, by path.
var plantedFiles = map[string]string{
	"etc/os-release": "ID=debian\n",
	"etc/nginx/nginx.conf": "events {}\nhttp {\n server {\n  listen 443 ssl;\n  server_name a.tarnholm.example;\n  ssl_certificate a.pem;\n" +
		"  ssl_certificate_key a.key;\n  proxy_set_header Authorization \"Basic " + planted + "\";\n  ssl_secret " + planted + ";\n" +
		"  return 301 https://a.tarnholm.example/?token=" + planted + ";\n  ssl_protocols TLSv1.2 " + planted + ";\n }\n}\n" +
		"password \"" + planted + "\n",
	"etc/apache2/apache2.conf": "Listen 443\nDefine SECRET " + planted + "\n<VirtualHost *:443>\nServerName b.tarnholm.example\nSSLEngine on\n" +
		"SSLCertificateFile /etc/nginx/a.pem\nSSLPassPhraseDialog \"exec:/bin/echo " + planted + "\"\nSetEnv TOKEN ${SECRET}\n" +
		"Redirect permanent / https://b.tarnholm.example/" + planted + "\nSSLOpenSSLConfCmd Passphrase " + planted + "\n</VirtualHost>\n",
	"etc/haproxy/haproxy.cfg": "global\nuserlist u\n user admin password " + planted + "\nfrontend f\n bind :444 ssl crt /etc/nginx/a.pem npn " + planted + "\n" +
		" stats auth admin:" + planted + "\n http-request redirect location https://x/" + planted + "\n",
	"etc/postfix/main.cf": "smtpd_tls_security_level = may\nsmtpd_tls_cert_file = /etc/nginx/a.pem\nrelay_password = " + planted + "\n" +
		"smtpd_tls_ciphers = $relay_password\nsmtpd_tls_passwd = " + planted + "\n",
	"etc/dovecot/dovecot.conf": "protocols = imap\nssl = yes\nssl_cert = </etc/nginx/a.pem\nssl_key = </etc/nginx/a.key\nssl_key_password = " + planted + "\n" +
		"ssl_pasword = " + planted + "\n",
	"etc/ldap/slapd.conf":                    "database mdb\nrootdn cn=admin\nrootpw " + planted + "\nTLSCertificateFile /etc/nginx/a.pem\nTLSCertificateKeyFile /etc/nginx/a.key\n",
	"etc/postgresql/15/main/postgresql.conf": "listen_addresses = '*'\nssl = on\nssl_passphrase_command = 'echo " + planted + "'\nssl_cert_file = '/etc/nginx/a.pem'\nssl_passwd = '" + planted + "'\n",
	"etc/mysql/my.cnf":                       "[client]\npassword = " + planted + "\n[mysqld]\nssl_cert = /etc/nginx/a.pem\nssl_key = /etc/nginx/a.key\nssl_passphrase = " + planted + "\ntls_version = " + planted + "\n",
	"etc/exim4/exim.conf":                    "SECRET = " + planted + "\ntls_certificate = /etc/nginx/a.pem\ntls_privatekey = ${lookup{SECRET}lsearch{x}}\nhide mysql_servers = x/y/SECRET\nbegin acl\nbegin routers\n",
	"etc/lighttpd/lighttpd.conf":             "server.document-root = \"/srv\"\nserver.port = 445\nvar.pw = \"" + planted + "\"\nssl.engine = \"enable\"\nssl.pemfile = \"/etc/nginx/a.pem\"\nssl.passphrase = \"" + planted + "\"\n",
	"etc/prosody/prosody.cfg.lua":            "modules_enabled = {}\nssl = { certificate = \"/etc/nginx/a.pem\"; key = \"/etc/nginx/a.key\"; password = \"" + planted + "\" }\nVirtualHost \"c.tarnholm.example\"\ncomponent_secret = \"" + planted + "\"\n",
	"etc/tomcat10/server.xml":                "<Server><Connector port=\"8443\" SSLEnabled=\"true\" keystoreFile=\"/etc/nginx/a.pem\" keystorePass=\"" + planted + "\"/></Server>",
	"etc/vsftpd.conf":                        "listen=YES\nssl_enable=YES\nrsa_cert_file=/etc/nginx/a.pem\nssl_password=" + planted + "\nlisten_port=" + planted + "\n",
}

// dresses are the encodings in which a secret could leave.
func dresses(secret []byte) map[string][]byte {
	return map[string][]byte{
		"as it is": secret, "hexadecimal": []byte(hex.EncodeToString(secret)),
		"base64":     []byte(strings.TrimRight(base64.StdEncoding.EncodeToString(secret), "=")),
		"base64 url": []byte(base64.RawURLEncoding.EncodeToString(secret)), "escaped": []byte(url.QueryEscape(string(secret))),
	}
}

// TestCollectKeepsSecrets: no secret part of a key and no password of a configuration is in what is shown to leave, in
// what does leave, or in the files of the database.
func TestCollectKeepsSecrets(t *testing.T) {
	machine := filepath.Join(t.TempDir(), "machine")
	ca := newSmallCA(t)
	set := ca.set("a.tarnholm.example", 5)
	put := func(path string, data []byte) {
		at := filepath.Join(machine, path)
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o700))
		require.NoError(t, os.WriteFile(at, data, 0o600))
	}
	for path, text := range plantedFiles {
		put(path, []byte(text))
	}
	put("etc/nginx/a.pem", set.certificate)
	put("etc/nginx/a.key", set.key)
	block, _ := pem.Decode(set.key)
	require.NotNil(t, block)
	secret := block.Bytes[len(block.Bytes)-110 : len(block.Bytes)-72] // of PKCS#8: the octets before the public half
	data := dataDirectory(t)
	d := serve(t, data)

	var mutex sync.Mutex
	var traffic bytes.Buffer
	target, err := url.Parse(d.address)
	require.NoError(t, err)
	proxy := httputil.NewSingleHostReverseProxy(target)
	recorder := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		r.Body = io.NopCloser(bytes.NewReader(body))
		mutex.Lock()
		traffic.WriteString(r.URL.String())
		traffic.Write(body)
		mutex.Unlock()
		r.Host = target.Host
		r.Header.Del("Origin")
		proxy.ServeHTTP(w, r)
	}))
	defer recorder.Close()

	shown := nurvik(t, "collect", machine, "--dry-run")
	require.Equal(t, 0, shown.status, shown.stderr)
	sent := nurvik(t, "collect", machine, "--holding", "planted", "--server", recorder.URL)
	require.Equal(t, 0, sent.status, sent.stderr)
	list := nurvik(t, "holding", "show", "planted", "--server", d.address, "-o", "json")
	require.Equal(t, 0, list.status, list.stderr)
	view := decoded[api.HoldingView](t, list.stdout)
	codes := map[string]bool{}
	for _, f := range view.Findings {
		codes[f.Code] = true
	}
	assert.True(t, codes["config.broken"] || codes["config.not-understood"], "the configuration is judged there: %v", codes)
	assert.Greater(t, strings.Count(shown.stdout, `"configuration"`), 11)

	var stored bytes.Buffer
	require.NoError(t, filepath.WalkDir(data, func(path string, entry fs.DirEntry, err error) error {
		if err == nil && entry.Type().IsRegular() {
			content, _ := os.ReadFile(path)
			stored.Write(content)
		}
		return nil
	}))
	require.Contains(t, traffic.String(), "a.tarnholm.example")
	require.Contains(t, stored.String(), "a.tarnholm.example")
	for place, all := range map[string][]byte{"the dry run": []byte(shown.stdout), "the traffic": traffic.Bytes(),
		"the answers": []byte(list.stdout), "the database": stored.Bytes()} {
		for name, dress := range dresses([]byte(planted)) {
			assert.False(t, bytes.Contains(all, dress), "the password, %s, is in %s", name, place)
		}
		for name, dress := range dresses(secret) {
			assert.False(t, bytes.Contains(all, dress), "the key, %s, is in %s", name, place)
		}
	}
	again := nurvik(t, "collect", machine, "--dry-run")
	assert.Equal(t, shown.stdout, again.stdout, "the same machine gives the same facts")
}
