package serverconf_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/serverconf"
)

// TestSystemVersions: the oldest version in openssl.cnf binds some servers, and
// others set it anew. TestSystemMinimum of the tests with real servers shows which.
func TestSystemVersions(t *testing.T) {
	for server, want := range map[string][]string{"vsftpd": {"TLS 1.3"}, "MariaDB": {"TLS 1.3"},
		"lighttpd": {"TLS 1.2", "TLS 1.3"}} {
		t.Run(server, func(t *testing.T) {
			root := t.TempDir()
			for path, text := range map[string]string{
				"etc/ssl/openssl.cnf": "openssl_conf = a\n[a]\nssl_conf = b\n[b]\nsystem_default = c\n[c]\n" +
					"MinProtocol = TLSv1.3\n",
				"etc/vsftpd.conf": "listen=YES\nssl_enable=YES\n",
				"etc/my.cnf":      "[mariadbd]\nssl_cert = /x.pem\nssl_key = /x.key\n",
				"etc/lighttpd.conf": "server.port = 443\n" +
					"server.modules = (\"mod_openssl\")\nssl.engine = \"enable\"\n" +
					"ssl.pemfile = \"/x.pem\"\n",
			} {
				at := filepath.Join(root, path)
				require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o700))
				require.NoError(t, os.WriteFile(at, []byte(text), 0o600))
			}
			path := map[string]string{"vsftpd": "etc/vsftpd.conf", "MariaDB": "etc/my.cnf",
				"lighttpd": "etc/lighttpd.conf"}[server]
			c := serverconf.Read(&serverconf.Machine{Root: root}, server, filepath.Join(root, path))
			require.NotEmpty(t, c.Sites, "%+v", c.Troubles)
			assert.Equal(t, want, c.Sites[0].Versions)
		})
	}
}
