package postgres_test

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/service/postgres"
)

// directory is short, since a Unix socket lies in it, and may be entered by the database's user.
func directory(t *testing.T) string {
	t.Helper()
	d, err := os.MkdirTemp("/tmp", "nurvik-pg-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(d, 0o755))
	t.Cleanup(func() { _ = os.RemoveAll(d) })
	return filepath.Join(d, "data")
}

func options(d string) postgres.Options {
	return postgres.Options{Directory: d, Unsafe: true, Log: slog.New(slog.NewTextHandler(io.Discard, nil))}
}

func start(t *testing.T, o postgres.Options) *postgres.Server {
	t.Helper()
	s, err := postgres.Start(t.Context(), o)
	require.NoError(t, err)
	return s
}

func stop(t *testing.T, s *postgres.Server) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	require.NoError(t, s.Stop(ctx))
}

func connect(t *testing.T, s *postgres.Server) *pgx.Conn {
	t.Helper()
	config, err := pgx.ParseConfig(s.URL())
	require.NoError(t, err)
	config.DialFunc = s.Dial
	conn, err := pgx.ConnectConfig(t.Context(), config)
	require.NoError(t, err)
	return conn
}

func query(t *testing.T, s *postgres.Server, sql string) (out string) {
	t.Helper()
	conn := connect(t, s)
	defer conn.Close(context.Background())
	require.NoError(t, conn.QueryRow(t.Context(), sql).Scan(&out))
	return out
}

func pidOf(t *testing.T, d string) int {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(d, "database", "data", "postmaster.pid"))
	require.NoError(t, err)
	pid, err := strconv.Atoi(strings.SplitN(string(text), "\n", 2)[0])
	require.NoError(t, err)
	return pid
}

func TestLife(t *testing.T) {
	d := directory(t)
	s := start(t, options(d))
	assert.Equal(t, "", query(t, s, "SHOW listen_addresses"), "nothing is reached over TCP")
	assert.Equal(t, "scram-sha-256", query(t, s, "SHOW password_encryption"))

	conn := connect(t, s)
	_, err := conn.Exec(t.Context(), "CREATE TABLE t AS SELECT 'kept' AS v")
	require.NoError(t, err)
	require.NoError(t, conn.Close(t.Context()))

	t.Run("the secret is needed", func(t *testing.T) {
		wrong := strings.Replace(s.URL(), "password=", "password=x", 1)
		config, err := pgx.ParseConfig(wrong)
		require.NoError(t, err)
		config.DialFunc = s.Dial
		_, err = pgx.ConnectConfig(t.Context(), config)
		assert.ErrorContains(t, err, "password authentication failed")
		info, err := os.Stat(filepath.Join(d, "secret"))
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
		info, err = os.Stat(filepath.Join(d, "run"))
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
	})
	t.Run("the service's role can do little", func(t *testing.T) {
		assert.Equal(t, "false", query(t, s, "SELECT rolsuper::text FROM pg_roles WHERE rolname = current_user"))
		conn := connect(t, s)
		defer conn.Close(context.Background())
		for _, statement := range []string{"COPY (SELECT 1) TO PROGRAM 'true'", "SELECT pg_read_file('/etc/passwd')",
			"CREATE ROLE other SUPERUSER", "ALTER ROLE nurvik SUPERUSER", "SET log_min_messages = debug5"} {
			_, err := conn.Exec(t.Context(), statement)
			assert.ErrorContains(t, err, "SQLSTATE 42501", statement) // insufficient_privilege
		}
	})
	t.Run("the log holds nothing of what is sent", func(t *testing.T) {
		conn := connect(t, s)
		defer conn.Close(context.Background())
		_, err := conn.Exec(t.Context(), "SELECT 'harbour-secret'::int")
		assert.Error(t, err)
		_, err = conn.Exec(t.Context(), "SELECT $1::int / 0, 'harbour-secret'", 1)
		assert.Error(t, err)
		text, err := os.ReadFile(filepath.Join(d, "postgresql.log"))
		require.NoError(t, err)
		assert.NotContains(t, string(text), "harbour-secret")
	})
	t.Run("a second service is refused", func(t *testing.T) {
		_, err := postgres.Start(t.Context(), options(d))
		assert.ErrorContains(t, err, "another nurvikd uses the data directory")
		assert.ErrorContains(t, err, "--data")
	})
	pid := pidOf(t, d)
	stop(t, s)
	assert.ErrorIs(t, syscall.Kill(pid, 0), syscall.ESRCH, "it is stopped")

	s = start(t, options(d))
	assert.Equal(t, "kept", query(t, s, "SELECT v FROM t"), "a restart finds the same data")
	stop(t, s)
}

// TestAdoption kills the process that started the server, as kill -9 of nurvikd does.
func TestAdoption(t *testing.T) {
	d := directory(t)
	helper := exec.Command(os.Args[0], "-test.run", "^TestHelperStartsAndIsKilled$")
	helper.Env = append(os.Environ(), "NURVIK_TEST_DIRECTORY="+d)
	require.Error(t, helper.Run(), "the helper ends by being killed")

	pid := pidOf(t, d)
	require.NoError(t, syscall.Kill(pid, 0), "the server was left running")
	s := start(t, options(d))
	assert.Equal(t, pid, pidOf(t, d), "it is the same server")
	assert.Equal(t, "one", query(t, s, "SELECT 'one'"))
	stop(t, s)
	assert.Eventually(t, func() bool { return errors.Is(syscall.Kill(pid, 0), syscall.ESRCH) }, 5*time.Second,
		20*time.Millisecond)
}

// TestHelperStartsAndIsKilled is no test of its own: TestAdoption runs it in a process to be killed.
func TestHelperStartsAndIsKilled(t *testing.T) {
	d := os.Getenv("NURVIK_TEST_DIRECTORY")
	if d == "" {
		return
	}
	_, err := postgres.Start(t.Context(), options(d))
	require.NoError(t, err)
	_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
}

func TestStalePidFile(t *testing.T) {
	d := directory(t)
	s := start(t, options(d))
	stop(t, s)
	// The number of a process that lives and is no PostgreSQL: this test.
	path := filepath.Join(d, "database", "data", "postmaster.pid")
	require.NoError(t, os.WriteFile(path, []byte(strconv.Itoa(os.Getpid())+"\n"), 0o600))
	s = start(t, options(d))
	assert.NotEqual(t, os.Getpid(), pidOf(t, d))
	stop(t, s)
}

func TestOtherMajorVersionIsRefused(t *testing.T) {
	d := directory(t)
	s := start(t, options(d))
	stop(t, s)
	version := filepath.Join(d, "database", "data", "PG_VERSION")
	require.NoError(t, os.WriteFile(version, []byte("9\n"), 0o600))
	_, err := postgres.Start(t.Context(), options(d))
	assert.ErrorContains(t, err, "made by PostgreSQL 9")
	assert.ErrorContains(t, err, "pg_upgrade", "the steps are told")
}

func TestWhatCannotWork(t *testing.T) {
	t.Run("a path too long for a socket", func(t *testing.T) {
		_, err := postgres.Start(t.Context(), options(filepath.Join(directory(t), strings.Repeat("long/", 20))))
		assert.ErrorContains(t, err, "too long for a Unix socket")
		assert.ErrorContains(t, err, "--data")
	})
	t.Run("no PostgreSQL", func(t *testing.T) {
		o := options(directory(t))
		o.Binaries = t.TempDir()
		_, err := postgres.Start(t.Context(), o)
		assert.ErrorContains(t, err, "PostgreSQL is not installed")
	})
	t.Run("the secret is lost", func(t *testing.T) {
		d := directory(t)
		stop(t, start(t, options(d)))
		require.NoError(t, os.Remove(filepath.Join(d, "secret")))
		_, err := postgres.Start(t.Context(), options(d))
		assert.ErrorContains(t, err, "opens only with it")
	})
}
