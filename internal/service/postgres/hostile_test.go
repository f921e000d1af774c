package postgres_test

import (
	"bytes"
	"errors"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/service/postgres"
)

// owner is the user of the database's files.
func owner(t *testing.T) (uid, gid int) {
	t.Helper()
	if os.Geteuid() != 0 {
		return os.Geteuid(), os.Getegid()
	}
	account, err := user.Lookup("postgres")
	require.NoError(t, err)
	uid, errU := strconv.Atoi(account.Uid)
	gid, errG := strconv.Atoi(account.Gid)
	require.NoError(t, errors.Join(errU, errG))
	return uid, gid
}

// TestNothingIsFollowed puts links and other things where the database's user,
// or anybody who can write there, could put them. Each is refused or left
// alone, and what it leads to stays as it is.
func TestNothingIsFollowed(t *testing.T) {
	uid, gid := owner(t)
	made := directory(t)
	stop(t, start(t, options(made)))
	tests := []struct {
		name   string
		put    func(t *testing.T, d, target string)
		refuse string // "" where the start goes on
	}{
		{"a link in the place of the socket's directory", func(t *testing.T, d, target string) {
			require.NoError(t, os.RemoveAll(filepath.Join(d, "run")))
			require.NoError(t, os.Symlink(target, filepath.Join(d, "run")))
		}, "is no directory"},
		{"a link in the place of the database's directory", func(t *testing.T, d, target string) {
			require.NoError(t, os.Rename(filepath.Join(d, "database"), filepath.Join(d, "moved")))
			require.NoError(t, os.Symlink(target, filepath.Join(d, "database")))
		}, "is no directory"},
		{"a link in the place of the data", func(t *testing.T, d, target string) {
			require.NoError(t, os.Rename(filepath.Join(d, "database", "data"), filepath.Join(d, "database", "moved")))
			require.NoError(t, os.Symlink(target, filepath.Join(d, "database", "data")))
		}, "escapes"},
		{"a link in the place of the pid file", func(t *testing.T, d, target string) {
			require.NoError(t, os.Symlink(filepath.Join(target, "file"),
				filepath.Join(d, "database", "data", "postmaster.pid")))
		}, ""},
		{"a pipe in the place of the version", func(t *testing.T, d, _ string) {
			path := filepath.Join(d, "database", "data", "PG_VERSION")
			require.NoError(t, os.Remove(path))
			require.NoError(t, syscall.Mkfifo(path, 0o600))
		}, "no regular file"},
		{"a link in the place of the secret", func(t *testing.T, d, target string) {
			require.NoError(t, os.Rename(filepath.Join(d, "secret"), filepath.Join(target, "secret")))
			require.NoError(t, os.Symlink(filepath.Join(target, "secret"), filepath.Join(d, "secret")))
		}, "no file of this user alone"},
		{"a second name of the secret", func(t *testing.T, d, target string) {
			require.NoError(t, os.Link(filepath.Join(d, "secret"), filepath.Join(target, "secret")))
		}, "no file of this user alone"},
		{"a secret that others can read", func(t *testing.T, d, _ string) {
			require.NoError(t, os.Chmod(filepath.Join(d, "secret"), 0o640))
		}, "chmod 0600"},
		{"a data directory that others can write", func(t *testing.T, d, _ string) {
			require.NoError(t, os.Chmod(d, 0o722))
		}, "others can read or write the data directory"},
		{"a data directory that others can read", func(t *testing.T, d, _ string) {
			require.NoError(t, os.Chmod(d, 0o755))
		}, "others can read or write the data directory"},
		{"a socket's directory that others can enter", func(t *testing.T, d, _ string) {
			require.NoError(t, os.Chmod(filepath.Join(d, "run"), 0o755))
		}, "others can enter"},
		{"a link in the place of the data directory", func(t *testing.T, d, _ string) {
			require.NoError(t, os.Rename(d, d+"-moved"))
			require.NoError(t, os.Symlink(d+"-moved", d))
		}, "is a link or no directory"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			d, target := directory(t), t.TempDir()
			require.NoError(t, exec.Command("cp", "-a", made, d).Run())
			file := filepath.Join(target, "file")
			require.NoError(t, os.WriteFile(file, []byte("1\n"), 0o640))
			before := state(t, target)
			tt.put(t, d, target)
			s, err := postgres.Start(t.Context(), options(d))
			if tt.refuse == "" {
				require.NoError(t, err)
				stop(t, s)
			} else {
				require.ErrorContains(t, err, tt.refuse)
			}
			assert.Equal(t, before, state(t, target), "what the link leads to is as it was")
		})
	}
	t.Run("somebody else behind the socket", func(t *testing.T) {
		if os.Geteuid() != 0 {
			return // nobody else can put one there
		}
		d := directory(t)
		s := start(t, options(d))
		defer stop(t, s)
		path := filepath.Join(d, "run", ".s.PGSQL.5432")
		require.NoError(t, os.Rename(path, path+".moved"))
		l, err := net.Listen("unix", filepath.Join(t.TempDir(), "s"))
		require.NoError(t, err)
		defer l.Close()
		require.NoError(t, os.Symlink(l.Addr().String(), path))
		_, err = s.Dial(t.Context(), "", "")
		assert.ErrorContains(t, err, "another user")
		require.NoError(t, os.Remove(path))
		require.NoError(t, os.Rename(path+".moved", path))
	})
	_, _ = uid, gid
}

// state is the owner, mode and contents of the file in a directory, and the directory's own.
func state(t *testing.T, directory string) string {
	t.Helper()
	out := ""
	for _, path := range []string{directory, filepath.Join(directory, "file")} {
		info, err := os.Lstat(path)
		require.NoError(t, err)
		stat, ok := info.Sys().(*syscall.Stat_t)
		require.True(t, ok)
		out += info.Mode().String() + " " + strconv.Itoa(int(stat.Uid)) + " "
	}
	text, err := os.ReadFile(filepath.Join(directory, "file"))
	require.NoError(t, err)
	return out + string(text)
}

// TestForeignProcess: the number in a pid file is signalled only when it is ours.
func TestForeignProcess(t *testing.T) {
	d := directory(t)
	s := start(t, options(d))
	other := exec.Command("sleep", "60")
	require.NoError(t, other.Start())
	defer func() { _ = other.Process.Kill(); _ = other.Wait() }()
	require.NoError(t, os.WriteFile(filepath.Join(d, "database", "data", "postmaster.pid"),
		[]byte(strconv.Itoa(other.Process.Pid)+"\n"), 0o600))
	stop(t, s)
	assert.NoError(t, other.Process.Signal(syscall.Signal(0)), "it lives")
}

// TestEnvironment: nothing of the caller's environment reaches PostgreSQL.
func TestEnvironment(t *testing.T) {
	t.Setenv("PGDATA", "/nowhere")
	t.Setenv("PGOPTIONS", "-c work_mem=99MB")
	t.Setenv("TZ", "Pacific/Auckland")
	t.Setenv("LD_LIBRARY_PATH", "/nowhere")
	d := directory(t)
	s := start(t, options(d))
	defer stop(t, s)
	environment, err := os.ReadFile(filepath.Join("/proc", strconv.Itoa(pidOf(t, d)), "environ"))
	require.NoError(t, err)
	for _, name := range []string{"PGDATA", "PGOPTIONS", "Auckland", "LD_LIBRARY_PATH"} {
		assert.NotContains(t, string(environment), name)
	}
}

// lines is a log that can be read while it is written.
type lines struct {
	mutex sync.Mutex
	text  bytes.Buffer
}

func (l *lines) Write(p []byte) (int, error) {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	return l.text.Write(p)
}

func (l *lines) String() string {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	return l.text.String()
}

// TestWatching kills the server; it is started again, and both log and health tell it.
func TestWatching(t *testing.T) {
	d, log := directory(t), &lines{}
	o := options(d)
	o.Log = slog.New(slog.NewTextHandler(log, nil))
	s := start(t, o)
	pid := pidOf(t, d)
	require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
	assert.Eventually(t, func() bool { return strings.Contains(strings.Join(s.Trouble(), " "), "the database") },
		20*time.Second, 10*time.Millisecond, "it is told")
	assert.Eventually(t, func() bool {
		config, err := pgx.ParseConfig(s.URL())
		require.NoError(t, err)
		config.DialFunc = s.Dial
		conn, err := pgx.ConnectConfig(t.Context(), config)
		if err != nil {
			return false
		}
		return conn.Close(t.Context()) == nil
	}, 60*time.Second, 100*time.Millisecond, "it runs again")
	assert.NotEqual(t, pid, pidOf(t, d))
	assert.Eventually(t, func() bool { return !strings.Contains(strings.Join(s.Trouble(), " "), "the database") },
		20*time.Second, 10*time.Millisecond)
	assert.Contains(t, log.String(), "PostgreSQL has ended")
	assert.Contains(t, log.String(), "PostgreSQL runs again")
	stop(t, s)
}

// TestBothKilled kills the service and the server at the same time: the next
// start waits for what is left of them instead of giving up.
func TestBothKilled(t *testing.T) {
	for range 5 {
		d := directory(t)
		helper := exec.Command(os.Args[0], "-test.run", "^TestHelperStartsAndIsKilled$")
		helper.Env = append(os.Environ(), "NURVIK_TEST_DIRECTORY="+d)
		require.Error(t, helper.Run())
		require.NoError(t, syscall.Kill(pidOf(t, d), syscall.SIGKILL))
		s := start(t, options(d))
		assert.Equal(t, "one", query(t, s, "SELECT 'one'"))
		stop(t, s)
	}
}

// TestRotation puts a large log aside.
func TestRotation(t *testing.T) {
	d := directory(t)
	s := start(t, options(d))
	stop(t, s)
	log := filepath.Join(d, "postgresql.log")
	require.NoError(t, os.WriteFile(log, bytes.Repeat([]byte("old line\n"), 1<<20), 0o600))
	s = start(t, options(d))
	stop(t, s)
	now, err := os.Stat(log)
	require.NoError(t, err)
	aside, err := os.Stat(log + ".1")
	require.NoError(t, err)
	assert.Less(t, now.Size(), int64(1<<20))
	assert.Greater(t, aside.Size(), int64(5<<20))
	assert.Equal(t, os.FileMode(0o600), aside.Mode().Perm())
}

// TestFullDisk: a disk without room is told before the database cannot go on.
func TestFullDisk(t *testing.T) {
	o := options(directory(t))
	o.Space = 1 << 60
	s := start(t, o)
	defer stop(t, s)
	assert.Contains(t, strings.Join(s.Trouble(), " "), "MiB are free on the disk")
}
