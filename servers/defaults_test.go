//go:build servers

package servers_test

import (
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestDebianDefaults runs servers with the files that Debian's packages come with, moved to addresses of the test: what
// is read from them is what the wire shows. The others of Debian's servers speak no TLS until somebody configures it.
func TestDebianDefaults(t *testing.T) {
	text := func(path string) string {
		data, err := os.ReadFile(path)
		require.NoError(t, err, "the package is installed")
		return string(data)
	}
	t.Run("Dovecot", func(t *testing.T) {
		directory, address, secure := place(t), free(t), free(t)
		path := filepath.Join(directory, "dovecot.conf")
		write(t, path, fmt.Appendf(nil, `!include /etc/dovecot/dovecot.conf
base_dir = %[1]s/run
state_dir = %[1]s/run
log_path = /dev/stderr
listen = 127.0.0.1
protocols = imap
service imap-login {
  inet_listener imap {
    port = %[2]d
  }
  inet_listener imaps {
    port = %[3]d
  }
}
`, directory, address.Port(), secure.Port()))
		run(t, address, nil, "/usr/sbin/dovecot", "-F", "-c", path)
		agrees(t, "Dovecot", secure, "imaps")
	})
	t.Run("Apache", func(t *testing.T) {
		directory, address := place(t), free(t)
		port := strconv.Itoa(int(address.Port()))
		site := filepath.Join(directory, "default-ssl.conf")
		write(t, site, []byte(strings.ReplaceAll(text("/etc/apache2/sites-available/default-ssl.conf"), "443", port)))
		path := filepath.Join(directory, "apache2.conf")
		write(t, path, fmt.Appendf(nil, `
ServerRoot %[1]s
PidFile %[1]s/pid
DefaultRuntimeDir %[1]s
Define APACHE_LOG_DIR %[1]s
Define APACHE_RUN_DIR %[1]s
User www-data
Group www-data
ServerName %[3]s
LoadModule mpm_event_module /usr/lib/apache2/modules/mod_mpm_event.so
LoadModule authz_core_module /usr/lib/apache2/modules/mod_authz_core.so
LoadModule mime_module /usr/lib/apache2/modules/mod_mime.so
LoadModule setenvif_module /usr/lib/apache2/modules/mod_setenvif.so
LoadModule socache_shmcb_module /usr/lib/apache2/modules/mod_socache_shmcb.so
LoadModule ssl_module /usr/lib/apache2/modules/mod_ssl.so
TypesConfig /dev/null
ErrorLog %[1]s/log
LogFormat "%%h" combined
Include /etc/apache2/mods-available/ssl.conf
Listen %[2]s
Include %[4]s
`, directory, address, host, site))
		run(t, address, nil, "/usr/sbin/apache2", "-DFOREGROUND", "-d", directory, "-f", path)
		agrees(t, "Apache", address, "https")
	})
	t.Run("Postfix", func(t *testing.T) {
		agrees(t, "Postfix", postfixWith(t, text("/etc/postfix/main.cf")), "smtp")
	})
	t.Run("PostgreSQL", func(t *testing.T) {
		files, err := filepath.Glob("/etc/postgresql/*/main/postgresql.conf")
		require.NoError(t, err)
		require.NotEmpty(t, files)
		agrees(t, "PostgreSQL", postgresWith(t, text(files[len(files)-1])), "postgres")
	})
}

// postfixWith runs the mail server with a main.cf and settings behind it that move it here.
func postfixWith(t *testing.T, main string) netip.AddrPort {
	t.Helper()
	directory, address := place(t), free(t)
	configuration := filepath.Join(directory, "conf")
	for _, name := range []string{"conf", "data", "queue"} {
		require.NoError(t, os.Mkdir(filepath.Join(directory, name), 0o755))
	}
	require.NoError(t, os.Chown(filepath.Join(directory, "data"), userID(t, "postfix"), -1))
	write(t, filepath.Join(configuration, "main.cf"), fmt.Appendf(nil, `%[3]s
queue_directory = %[1]s/queue
data_directory = %[1]s/data
maillog_file = /dev/stdout
inet_interfaces = 127.0.0.1
inet_protocols = ipv4
myhostname = %[2]s
mydestination =
`, directory, host, main))
	write(t, filepath.Join(configuration, "master.cf"), fmt.Appendf(nil, postfixMaster, address))
	run(t, address, nil, "/usr/sbin/postfix", "-c", configuration, "start-fg")
	t.Cleanup(func() { _ = exec.Command("/usr/sbin/postfix", "-c", configuration, "stop").Run() })
	return address
}

// postgresWith runs the database server with a postgresql.conf and settings behind it that move it here.
func postgresWith(t *testing.T, conf string) netip.AddrPort {
	t.Helper()
	data, bin, as := cluster(t)
	if g, err := user.LookupGroup("ssl-cert"); err == nil && as != nil {
		id, err := strconv.Atoi(g.Gid)
		require.NoError(t, err)
		as.Groups = []uint32{uint32(id)} // who may read the key of Debian's package
	}
	address := free(t)
	require.NoError(t, os.WriteFile(filepath.Join(data, "postgresql.conf"), fmt.Appendf(nil, `%[3]s
data_directory = '%[1]s'
hba_file = '%[1]s/pg_hba.conf'
ident_file = '%[1]s/pg_ident.conf'
external_pid_file = ''
listen_addresses = '127.0.0.1'
port = %[2]d
unix_socket_directories = '%[1]s'
fsync = off
`, data, address.Port(), strings.ReplaceAll(conf, "include_dir = 'conf.d'", "")), 0o644))
	run(t, address, as, filepath.Join(bin, "postgres"), "-D", data)
	return address
}
