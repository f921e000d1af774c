// Package postgres runs a PostgreSQL server of Nurvik's own, for installations
// that name no database: under the data directory, reachable only through a
// Unix socket in a directory of mode 0700 and only with a random secret. It
// creates no system cluster and starts no system service. The server is watched
// and started again when it ends.
package postgres

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"golang.org/x/sys/unix"
)

const (
	adminRole   = "postgres" // sets up the other, and is not used afterwards
	serviceRole = "nurvik"
	database    = "nurvik"
)

// Options say where and how the server runs.
type Options struct {
	Directory string // data directory of the service; made when missing
	Binaries  string // directory of PostgreSQL's programs; "" finds Debian's
	Unsafe    bool   // do not wait for the disk; for tests only
	Space     int64  // bytes that should be free on the disk, else it is told; 0 for 200 MiB
	Log       *slog.Logger
}

// Server is the running server.
type Server struct {
	options   Options
	place     *place
	passwords passwords
	lock      *os.File
	binaries  string

	mutex    sync.Mutex
	process  *process
	launched bool   // by us, and not adopted
	trouble  string // why it is down, "" while it runs
	watching sync.WaitGroup
	children sync.WaitGroup // that were launched and are waited for
	stop     context.CancelFunc
}

// Start makes the cluster when there is none, adopts a server that a killed
// predecessor left running, or starts one, and watches it from then on. Errors
// say what to do.
func Start(ctx context.Context, o Options) (*Server, error) {
	if o.Space == 0 {
		o.Space = leastSpace
	}
	s := &Server{options: o}
	var err error
	if s.place, err = openPlace(o.Directory); err != nil {
		return nil, err
	}
	if err := s.bringUp(ctx); err != nil {
		if s.launched {
			_ = s.process.signal(syscall.SIGINT)
			s.process.ended(10 * time.Second)
		}
		s.release()
		return nil, err
	}
	watching, stop := context.WithCancel(context.WithoutCancel(ctx))
	s.stop = stop
	s.watching.Go(func() { s.watch(watching) })
	return s, nil
}

// Reach is Start where no other nurvikd uses the directory; else the server is the one that the other keeps, and
// goes on
// after Stop.
func Reach(ctx context.Context, o Options) (*Server, error) {
	s, err := Start(ctx, o)
	if !errors.Is(err, ErrInUse) {
		return s, err
	}
	s = &Server{options: o, stop: func() {}}
	if s.place, err = openPlace(o.Directory); err != nil {
		return nil, err
	}
	if s.passwords, err = s.place.secrets(); err == nil {
		s.binaries, err = s.findBinaries(ctx)
	}
	if err != nil {
		s.release()
		return nil, err
	}
	return s, nil
}

// release gives the directory back.
func (s *Server) release() {
	if s.process != nil {
		s.process.close()
	}
	if s.lock != nil {
		_ = s.lock.Close()
	}
	s.place.close()
}

func (s *Server) bringUp(ctx context.Context) (err error) {
	if s.lock, err = s.place.takeLock(); err != nil {
		return err
	}
	if s.passwords, err = s.place.secrets(); err != nil {
		return err
	}
	if s.binaries, err = s.findBinaries(ctx); err != nil {
		return err
	}
	if _, err := s.place.base.Lstat(filepath.Join(dataName, "PG_VERSION")); errors.Is(err, fs.ErrNotExist) {
		if err := s.create(ctx); err != nil {
			return err
		}
	}
	if err := s.run(ctx); err != nil {
		return err
	}
	return s.settle(ctx)
}

// startTime is how long a start is tried. After a kill of service and server
// together, what is left of the old one holds its memory for a moment.
const startTime = 60 * time.Second

// run adopts the server that runs, or starts one, trying again for a while.
func (s *Server) run(ctx context.Context) error {
	deadline := time.Now().Add(startTime)
	for pause := 100 * time.Millisecond; ; pause = min(2*pause, 3*time.Second) {
		err := s.runOnce(ctx, deadline)
		if err == nil || ctx.Err() != nil || time.Now().After(deadline) || isRefusal(err) {
			return err
		}
		s.options.Log.Warn("PostgreSQL did not start; trying again", "error", err)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
	}
}

func (s *Server) runOnce(ctx context.Context, deadline time.Time) error {
	if pid, ok := s.place.pid(); ok {
		running, err := s.place.prove(pid)
		if err == nil {
			s.setProcess(running)
			if err := s.await(ctx, deadline); err != nil { // it may be in the middle of its own start, or of its end
				return fmt.Errorf("PostgreSQL (process %d) runs on %s and does not let us in: %w; stop it and start "+
					"again", pid, s.place.data(), err)
			}
			s.options.Log.Info("adopted the PostgreSQL that was still running", "pid", pid)
			return nil
		}
		s.options.Log.Warn("removing a stale pid file of PostgreSQL", "pid", pid)
	}
	if err := s.place.clean(); err != nil { // whatever it is, it is not that of a server
		return err
	}
	if err := s.launch(); err != nil {
		return err
	}
	return s.await(ctx, deadline)
}

func (s *Server) setProcess(p *process) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if s.process != nil {
		s.process.close()
	}
	s.process = p
}

// settings are given to the server on its command line: where it listens, and
// that its log holds nothing of what callers send.
func (s *Server) settings() []string {
	out := []string{"listen_addresses=", "unix_socket_directories=" + filepath.Dir(s.place.socket()),
		"unix_socket_permissions=0700", "logging_collector=off", "port=5432", "log_min_messages=log",
		"log_min_error_statement=panic", "log_error_verbosity=terse", "log_statement=none",
		"log_parameter_max_length=0", "log_parameter_max_length_on_error=0"}
	if s.options.Unsafe {
		out = append(out, "fsync=off", "full_page_writes=off") // a killed process loses nothing by it, a power cut does
	}
	return out
}

func (s *Server) launch() error {
	if err := s.place.rotate(); err != nil {
		return err
	}
	log, err := s.place.root.OpenFile(logName, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	arguments := []string{"-D", s.place.data()}
	for _, setting := range s.settings() {
		arguments = append(arguments, "-c", setting)
	}
	command := s.command(context.Background(), s.binaries, "postgres", arguments...)
	command.Stdout, command.Stderr = log, log
	// A session of its own: an interrupt from the terminal is for nurvikd, which then stops the server in order.
	command.SysProcAttr.Setsid = true
	command.SysProcAttr.PidFD = new(int)
	if err := command.Start(); err != nil {
		return fmt.Errorf("start PostgreSQL: %w", err)
	}
	fd, err := unix.FcntlInt(uintptr(*command.SysProcAttr.PidFD), unix.F_DUPFD_CLOEXEC, 0)
	s.children.Go(func() { _ = command.Wait() }) // so that it does not stay as a zombie
	if err != nil {
		return err
	}
	s.setProcess(&process{command.Process.Pid, fd})
	s.launched = true
	s.options.Log.Info("PostgreSQL started", "directory", s.place.data(), "pid", command.Process.Pid)
	return nil
}

// isRefusal reports an error that waiting does not change: a wrong password.
func isRefusal(err error) bool {
	var refused *pgconn.PgError
	return errors.As(err, &refused) && strings.HasPrefix(refused.Code, "28")
}

// await waits until the server takes connections.
func (s *Server) await(ctx context.Context, deadline time.Time) error {
	for {
		conn, err := s.connect(ctx, adminRole, s.passwords.admin, adminRole)
		switch {
		case err == nil:
			return conn.Close(ctx)
		case isRefusal(err), ctx.Err() != nil:
			return err
		case s.process.ended(50 * time.Millisecond):
			return fmt.Errorf("PostgreSQL ended at once; its last words in %s: %s",
				filepath.Join(s.place.path, logName), s.place.lastWords())
		case time.Now().After(deadline):
			return fmt.Errorf("PostgreSQL takes no connections after %s: %w; see %s", startTime, err,
				filepath.Join(s.place.path, logName))
		}
	}
}

// Dial connects to the server's socket. What is behind it must be a process of
// the database's user, whatever the socket's path leads to.
func (s *Server) Dial(ctx context.Context, _, _ string) (net.Conn, error) {
	// The directory is held while the socket in it is looked for.
	directory, err := s.place.root.OpenFile(runName, unix.O_PATH|unix.O_DIRECTORY|unix.O_NOFOLLOW, 0)
	if err != nil {
		return nil, err
	}
	defer directory.Close()
	path := fmt.Sprintf("/proc/self/fd/%d/%s", directory.Fd(), socketName)
	conn, err := (&net.Dialer{}).DialContext(ctx, "unix", path)
	if err != nil {
		return nil, err
	}
	if err := s.checkPeer(conn); err != nil {
		_ = conn.Close()
		return nil, err
	}
	return conn, nil
}

func (s *Server) checkPeer(conn net.Conn) error {
	raw, ok := conn.(syscall.Conn)
	if !ok {
		return errors.New("the connection to PostgreSQL is no socket")
	}
	control, err := raw.SyscallConn()
	if err != nil {
		return err
	}
	var peer *unix.Ucred
	var failure error
	if err := control.Control(func(fd uintptr) {
		peer, failure = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED)
	}); err != nil || failure != nil {
		return errors.Join(err, failure)
	}
	if int(peer.Uid) != s.place.uid() {
		return fmt.Errorf("behind the socket of PostgreSQL is a process of another user (number %d); nothing was "+
			"sent to it",
			peer.Uid)
	}
	return nil
}

// URL is what the service connects with, through Dial. It holds the secret.
func (s *Server) URL() string { return s.url(serviceRole, s.passwords.service, database) }

func (s *Server) url(role, password, name string) string {
	return fmt.Sprintf("host=%s port=5432 user=%s password=%s dbname=%s sslmode=disable",
		quoteDSN(filepath.Dir(s.place.socket())), role, password, name)
}

func quoteDSN(value string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(value) + "'"
}

// Stop ends the server in order: connections are cut, nothing is lost.
func (s *Server) Stop(ctx context.Context) error {
	s.stop()
	s.watching.Wait()
	defer s.release()
	if s.process == nil || s.process.ended(0) {
		return nil
	}
	if err := s.process.signal(syscall.SIGINT); err != nil {
		return fmt.Errorf("stop PostgreSQL: %w", err)
	}
	if err := s.process.await(ctx); err != nil {
		return err
	}
	s.children.Wait()
	return nil
}
