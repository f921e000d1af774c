//go:build servers

package servers_test

import (
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
)

// postgresUser is whom the database server runs as: it refuses to run as root.
func postgresUser(t *testing.T) *syscall.Credential {
	t.Helper()
	if os.Geteuid() != 0 {
		return nil
	}
	u, err := user.Lookup("postgres")
	require.NoError(t, err)
	uid, err := strconv.Atoi(u.Uid)
	require.NoError(t, err)
	gid, err := strconv.Atoi(u.Gid)
	require.NoError(t, err)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
}

// cluster makes a cluster of databases, with a certificate beside it.
func cluster(t *testing.T) (data, bin string, as *syscall.Credential) {
	t.Helper()
	programs, err := filepath.Glob("/usr/lib/postgresql/*/bin")
	require.NoError(t, err)
	require.NotEmpty(t, programs)
	slices.Sort(programs)
	bin, as = programs[len(programs)-1], postgresUser(t)
	directory, err := os.MkdirTemp("", "nurvik-servers-")
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, os.RemoveAll(directory)) })
	data = filepath.Join(directory, "data")
	material(t, directory, "ec", "EC")
	if as != nil {
		for _, path := range []string{directory, filepath.Join(directory, "ec.key"),
			filepath.Join(directory, "ec.crt")} {
			require.NoError(t, os.Chown(path, int(as.Uid), int(as.Gid)))
		}
	}
	initdb := exec.Command(filepath.Join(bin, "initdb"), "-D", data, "--no-sync", "-A", "trust")
	initdb.SysProcAttr, initdb.Dir = &syscall.SysProcAttr{Credential: as}, directory
	said, err := initdb.CombinedOutput()
	require.NoError(t, err, string(said))
	return data, bin, as
}

// postgres runs the database server with lines of configuration.
func postgres(t *testing.T, lines ...string) netip.AddrPort {
	t.Helper()
	data, bin, as := cluster(t)
	directory := filepath.Dir(data)
	address := free(t)
	f, err := os.OpenFile(filepath.Join(data, "postgresql.conf"), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = fmt.Fprintf(f, "\nlisten_addresses = '127.0.0.1'\nport = %d\nunix_socket_directories = '%[2]s'\n"+
		"fsync = off\nssl = on\nssl_cert_file = '%[2]s/ec.crt'\nssl_key_file = '%[2]s/ec.key'\n%[3]s\n", address.Port(),
		directory, strings.Join(lines, "\n"))
	require.NoError(t, err)
	require.NoError(t, f.Close())
	run(t, address, as, filepath.Join(bin, "postgres"), "-D", data)
	return address
}

func TestPostgreSQL(t *testing.T) {
	tests := []struct {
		name, least, most, ciphers string
		want                       []string
	}{
		{"TLS 1.2 alone", "TLSv1.2", "TLSv1.2", "ECDHE-ECDSA-AES256-GCM-SHA384:ECDHE-ECDSA-AES128-GCM-SHA256",
			[]string{"TLS 1.2: TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384 TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256"}},
		{"TLS 1.3 alone", "TLSv1.3", "", "HIGH", []string{newest}},
		{"all that the library allows", "TLSv1", "", "ECDHE-ECDSA-AES128-SHA",
			[]string{newest, "TLS 1.2: TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA"}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			o := visit(t, postgres(t, "ssl_ciphers = '"+tt.ciphers+"'", "ssl_min_protocol_version = '"+tt.least+"'",
				"ssl_max_protocol_version = '"+tt.most+"'"), "postgres")
			assert.Equal(t, tt.want, accepted(o))
			assert.Equal(t, facts.PossessionShown, o.Possession)
		})
	}
}
