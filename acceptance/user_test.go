package acceptance

import (
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// uidOf is the user of a process.
func uidOf(t *testing.T, pid int) int {
	t.Helper()
	info, err := os.Stat(fmt.Sprintf("/proc/%d", pid))
	require.NoError(t, err)
	stat, ok := info.Sys().(*syscall.Stat_t)
	require.True(t, ok)
	return int(stat.Uid)
}

// TestAnotherUser: started as root, everything runs as the user that is named;
// what cannot be done is refused with the way out. Nobody else can name a user.
func TestAnotherUser(t *testing.T) {
	if os.Geteuid() != 0 {
		o := call(t, "", "nurvikd", "serve", "--user", "root", "--data", dataDirectory(t))
		assert.Equal(t, 1, o.status)
		assert.Contains(t, o.stderr, "only root can")
		return
	}
	nobody, err := user.Lookup("nobody")
	require.NoError(t, err)
	uid, err := strconv.Atoi(nobody.Uid)
	require.NoError(t, err)
	data := dataDirectory(t)
	readable := filepath.Join(t.TempDir(), "nurvikd.yaml")
	for path := filepath.Dir(readable); path != "/tmp"; path = filepath.Dir(path) {
		require.NoError(t, os.Chmod(path, 0o755))
	}
	require.NoError(t, os.WriteFile(readable, []byte("visits: 10\n"), 0o644))

	d := serve(t, data, "--user", "nobody", "--config", readable)
	assert.Equal(t, uid, uidOf(t, d.cmd.Process.Pid), "the service")
	text, err := os.ReadFile(filepath.Join(data, "database", "data", "postmaster.pid"))
	require.NoError(t, err)
	pid, err := strconv.Atoi(strings.SplitN(string(text), "\n", 2)[0])
	require.NoError(t, err)
	assert.Equal(t, uid, uidOf(t, pid), "the database")
	for _, name := range []string{"", "secret", "lock", "run", "database", "postgresql.log"} {
		info, err := os.Lstat(filepath.Join(data, name))
		require.NoError(t, err)
		stat, ok := info.Sys().(*syscall.Stat_t)
		require.True(t, ok)
		assert.Equal(t, uid, int(stat.Uid), name)
	}
	d.stop(t)

	secret := filepath.Join(filepath.Dir(readable), "secret.yaml")
	require.NoError(t, os.WriteFile(secret, []byte("visits: 10\n"), 0o600))
	for name, tt := range map[string]struct {
		arguments []string
		says      string
	}{
		"a user that is not there": {[]string{"--user", "harbourmaster", "--data", data}, "there is no such user"},
		"root itself":              {[]string{"--user", "root", "--data", data}, "name another user"},
		"another's data directory": {[]string{"--user", "nobody", "--data", "/root"}, "chown -R nobody"},
		"a file that it cannot read": {[]string{"--user", "nobody", "--data", data, "--config", secret},
			"cannot read " + secret},
		"the data of that user as root": {[]string{"--data", data}, "belongs to another user"},
	} {
		t.Run(name, func(t *testing.T) {
			o := call(t, "", "nurvikd", append([]string{"serve", "--listen", freeAddress(t)}, tt.arguments...)...)
			assert.Equal(t, 1, o.status)
			assert.Contains(t, o.stderr, tt.says)
		})
	}
}
