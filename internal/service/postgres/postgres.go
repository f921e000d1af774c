// Package postgres runs a PostgreSQL server of Nurvik's own, for installations
// that name no database: under the data directory, reachable only through a
// Unix socket in a directory of mode 0700 and only with a random secret. It
// creates no system cluster and starts no system service.
package postgres

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

const (
	user     = "nurvik"
	database = "nurvik"
	// maxSocket is the longest path of a Unix socket (sun_path of unix(7), less its end), in bytes.
	maxSocket = 107
	socket    = ".s.PGSQL.5432"
)

// Options say where and how the server runs.
type Options struct {
	Directory string // data directory of the service; made when missing
	Binaries  string // directory of PostgreSQL's programs; "" finds Debian's
	Unsafe    bool   // do not wait for the disk; for tests only
	Log       *slog.Logger
}

// Server is the running server.
type Server struct {
	options Options
	secret  string
	lock    *os.File
	owner   *syscall.Credential // whom the server runs as; nil for this user
	process *exec.Cmd           // nil when the server was adopted
	done    chan struct{}       // closed when the process has ended
}

// Start makes the cluster when there is none, adopts a server that a killed
// predecessor left running, or starts one. Errors say what to do.
func Start(ctx context.Context, o Options) (*Server, error) {
	s := &Server{options: o}
	if err := s.prepare(); err != nil {
		s.unlock()
		return nil, err
	}
	if err := s.run(ctx); err != nil {
		s.unlock()
		return nil, err
	}
	return s, nil
}

func (s *Server) path(parts ...string) string {
	return filepath.Join(append([]string{s.options.Directory}, parts...)...)
}

func (s *Server) base() string { return s.path("database") }
func (s *Server) data() string { return s.path("database", "data") }
func (s *Server) sock() string { return s.path("database", "run") }

// prepare makes the directories, takes the lock and finds the secret.
func (s *Server) prepare() error {
	if n := len(s.sock()) + 1 + len(socket); n > maxSocket {
		return fmt.Errorf("the data directory %s is too long for a Unix socket by %d characters; choose a shorter "+
			"one with --data", s.options.Directory, n-maxSocket)
	}
	if err := s.findOwner(); err != nil {
		return err
	}
	mode := os.FileMode(0o700)
	if s.owner != nil {
		mode = 0o711 // the database's user must pass through, and see nothing
	}
	if err := os.MkdirAll(s.options.Directory, mode); err != nil {
		return fmt.Errorf("data directory: %w; choose another with --data", err)
	}
	if err := s.takeLock(); err != nil {
		return err
	}
	for _, d := range []string{s.base(), s.sock()} {
		if err := os.MkdirAll(d, 0o700); err != nil {
			return err
		}
		if err := s.give(d); err != nil {
			return err
		}
	}
	return s.findSecret()
}

func (s *Server) takeLock() error {
	lock, err := os.OpenFile(s.path("lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		_ = lock.Close()
		return fmt.Errorf("another nurvikd uses the data directory %s; stop it, or choose another directory with "+
			"--data", s.options.Directory)
	}
	s.lock = lock
	return nil
}

// unlock lets another process have the directory.
func (s *Server) unlock() {
	if s.lock != nil {
		_ = s.lock.Close()
	}
}

func (s *Server) findSecret() error {
	path := s.path("secret")
	text, err := os.ReadFile(path)
	if err == nil && len(text) > 0 {
		s.secret = strings.TrimSpace(string(text))
		return nil
	}
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	if _, err := os.Stat(s.data()); err == nil {
		return fmt.Errorf("%s is missing, and the database in %s opens only with it; restore the file, or move "+
			"the directory away to begin anew", path, s.data())
	}
	random := make([]byte, 24)
	if _, err := rand.Read(random); err != nil {
		return err
	}
	s.secret = hex.EncodeToString(random)
	return os.WriteFile(path, []byte(s.secret+"\n"), 0o600)
}

// run brings up the server, whatever state the cluster is in.
func (s *Server) run(ctx context.Context) error {
	binaries, err := s.findBinaries()
	if err != nil {
		return err
	}
	if _, err := os.Stat(filepath.Join(s.data(), "PG_VERSION")); errors.Is(err, os.ErrNotExist) {
		if err := s.create(ctx, binaries); err != nil {
			return err
		}
	}
	running, err := s.adopt(ctx)
	if err != nil {
		return err
	}
	if !running {
		if err := s.launch(binaries); err != nil {
			return err
		}
		if err := s.await(ctx); err != nil {
			return errors.Join(err, s.Stop(context.WithoutCancel(ctx)))
		}
	}
	return s.createDatabase(ctx)
}

func (s *Server) launch(binaries string) error {
	logFile, err := os.OpenFile(s.path("postgresql.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer logFile.Close()
	arguments := []string{"-D", s.data(), "-c", "listen_addresses=", "-c", "unix_socket_directories=" + s.sock(),
		"-c", "unix_socket_permissions=0700", "-c", "logging_collector=off", "-c", "port=5432"}
	if s.options.Unsafe {
		arguments = append(arguments, "-c", "fsync=off", "-c", "synchronous_commit=off", "-c", "full_page_writes=off")
	}
	s.process = exec.Command(filepath.Join(binaries, "postgres"), arguments...)
	s.process.Stdout, s.process.Stderr = logFile, logFile
	s.process.Dir = s.base()
	// A session of its own: an interrupt from the terminal is for nurvikd, which then stops the server in order.
	s.process.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Credential: s.owner}
	if err := s.process.Start(); err != nil {
		return fmt.Errorf("start PostgreSQL: %w", err)
	}
	s.done = make(chan struct{})
	go func() {
		_ = s.process.Wait()
		close(s.done)
	}()
	s.options.Log.Info("PostgreSQL started", "directory", s.data(), "pid", s.process.Process.Pid)
	return nil
}

// await waits until the server takes connections.
func (s *Server) await(ctx context.Context) error {
	deadline := time.Now().Add(60 * time.Second)
	for {
		conn, err := pgx.Connect(ctx, s.url("postgres"))
		if err == nil {
			return conn.Close(ctx)
		}
		var refused *pgconn.PgError
		// invalid authorization: waiting changes nothing
		if errors.As(err, &refused) && strings.HasPrefix(refused.Code, "28") {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-s.done:
			return fmt.Errorf("PostgreSQL ended at once; its last words in %s: %s", s.path("postgresql.log"),
				s.lastWords())
		case <-time.After(50 * time.Millisecond):
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("PostgreSQL takes no connections after a minute: %w; see %s", err,
				s.path("postgresql.log"))
		}
	}
}

func (s *Server) lastWords() string {
	text, err := os.ReadFile(s.path("postgresql.log"))
	if err != nil {
		return err.Error()
	}
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	return strings.Join(lines[max(0, len(lines)-3):], " | ")
}

func (s *Server) createDatabase(ctx context.Context) error {
	conn, err := pgx.Connect(ctx, s.url("postgres"))
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	var there bool
	if err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1)",
		database).Scan(&there); err != nil || there {
		return err
	}
	_, err = conn.Exec(ctx, "CREATE DATABASE "+database)
	return err
}

// URL is what a client of the server connects with. It holds the secret.
func (s *Server) URL() string { return s.url(database) }

func (s *Server) url(name string) string {
	return fmt.Sprintf("host=%s port=5432 user=%s password=%s dbname=%s sslmode=disable", quoteDSN(s.sock()), user,
		s.secret, name)
}

func quoteDSN(value string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(value) + "'"
}

// Stop ends the server in order: connections are cut, nothing is lost.
func (s *Server) Stop(ctx context.Context) error {
	defer s.unlock()
	pid, ok := s.pid()
	if !ok {
		return nil
	}
	if err := syscall.Kill(pid, syscall.SIGINT); err != nil && !errors.Is(err, syscall.ESRCH) {
		return fmt.Errorf("stop PostgreSQL: %w", err)
	}
	for {
		if s.done != nil {
			select {
			case <-s.done:
				return nil
			case <-ctx.Done():
				return fmt.Errorf("PostgreSQL (process %d) has not stopped yet: %w", pid, ctx.Err())
			}
		}
		if !alive(pid) {
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("PostgreSQL (process %d) has not stopped yet: %w", pid, ctx.Err())
		case <-time.After(20 * time.Millisecond):
		}
	}
}
