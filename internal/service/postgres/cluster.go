package postgres

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"github.com/jackc/pgx/v5"
)

// debianRoot is where Debian keeps PostgreSQL's programs, by major version.
const debianRoot = "/usr/lib/postgresql"

// environment is all that PostgreSQL's programs get of one: nothing of the
// caller's changes what they do.
var environment = []string{"PATH=/usr/bin:/bin", "LANG=C.UTF-8", "LC_ALL=C.UTF-8", "HOME=/", "TZ=UTC"}

// command runs one of PostgreSQL's programs as the database's user.
func (s *Server) command(ctx context.Context, directory, program string, arguments ...string) *exec.Cmd {
	c := exec.CommandContext(ctx, filepath.Join(directory, program), arguments...)
	c.Env, c.Dir = environment, "/"
	c.SysProcAttr = &syscall.SysProcAttr{Credential: s.place.owner}
	return c
}

// findBinaries returns the directory of the programs that fit the cluster.
func (s *Server) findBinaries(ctx context.Context) (string, error) {
	installed := s.installed(ctx)
	if len(installed) == 0 {
		return "",
			errors.New("PostgreSQL is not installed; install the package postgresql, name its programs with " +
				"--postgres-bin, or name a database with --database")
	}
	wanted, err := small(s.place.base, filepath.Join(dataName, "PG_VERSION"))
	if errors.Is(err, fs.ErrNotExist) {
		return installed[0].path, nil
	}
	if err != nil {
		return "", err
	}
	for _, i := range installed {
		if strconv.Itoa(i.major) == wanted {
			return i.path, nil
		}
	}
	return "",
		fmt.Errorf("the database in %s was made by PostgreSQL %s, and version %d is installed. Nothing was changed. "+
			"Either install postgresql-%s and start again; or, with both installed, stop nurvikd, run pg_upgrade from "+
			"the old to the new version, and start again",
			s.place.data(), wanted, installed[0].major, wanted)
}

type installation struct {
	major int
	path  string
}

// installed lists the programs found, the newest first.
func (s *Server) installed(ctx context.Context) []installation {
	var out []installation
	add := func(directory string) {
		text, err := s.command(ctx, directory, "postgres", "--version").Output()
		if err != nil {
			return
		}
		fields := strings.Fields(string(text)) // postgres (PostgreSQL) 15.18 …
		if len(fields) < 3 {
			return
		}
		major, _, _ := strings.Cut(fields[2], ".")
		if n, err := strconv.Atoi(major); err == nil {
			out = append(out, installation{n, directory})
		}
	}
	if s.options.Binaries != "" {
		add(s.options.Binaries)
		return out
	}
	found, _ := filepath.Glob(filepath.Join(debianRoot, "*", "bin"))
	for _, directory := range found {
		add(directory)
	}
	if path, err := exec.LookPath("postgres"); err == nil && len(out) == 0 {
		add(filepath.Dir(path))
	}
	slices.SortFunc(out, func(a, b installation) int { return cmp.Compare(b.major, a.major) })
	return out
}

// passwordName is the file that tells initdb the administrator's password; it is there for a moment.
const passwordName = "password"

// create makes the cluster beside its place and moves it there when it is
// whole, so that an interrupted start leaves nothing half made.
func (s *Server) create(ctx context.Context) error {
	p := s.place
	if err := p.base.RemoveAll(freshName); err != nil {
		return err
	}
	if err := p.root.RemoveAll(passwordName); err != nil {
		return err
	}
	if err := p.write(passwordName, s.passwords.admin+"\n", true); err != nil {
		return err
	}
	defer func() { _ = p.root.Remove(passwordName) }()
	arguments := []string{"-D", filepath.Join(p.path, baseName, freshName), "-U", adminRole, "--pwfile",
		filepath.Join(p.path, passwordName), "--encoding", "UTF8", "--locale", "C.UTF-8",
		"--auth-local", "scram-sha-256", "--auth-host", "scram-sha-256"}
	if s.options.Unsafe {
		arguments = append(arguments, "--no-sync")
	}
	if output, err := s.command(ctx, s.binaries, "initdb", arguments...).CombinedOutput(); err != nil {
		return fmt.Errorf("initdb in %s: %w: %s", p.path, err, strings.TrimSpace(string(output)))
	}
	return p.base.Rename(freshName, dataName)
}

// settle makes the service's role and database where they are not there yet.
// The role owns that database and may do nothing else.
func (s *Server) settle(ctx context.Context) error {
	conn, err := s.connect(ctx, adminRole, s.passwords.admin, adminRole)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	for _, step := range []struct{ there, make string }{
		{"SELECT EXISTS (SELECT FROM pg_roles WHERE rolname = '" + serviceRole + "')",
			"CREATE ROLE " + serviceRole + " LOGIN PASSWORD '" + s.passwords.service + "'"}, // hexadecimal digits
		{"SELECT EXISTS (SELECT FROM pg_database WHERE datname = '" + database + "')",
			"CREATE DATABASE " + database + " OWNER " + serviceRole},
	} {
		var there bool
		if err := conn.QueryRow(ctx, step.there).Scan(&there); err != nil {
			return err
		}
		if there {
			continue
		}
		if _, err := conn.Exec(ctx, step.make); err != nil {
			return err
		}
	}
	return nil
}

// connect opens a connection by hand, as the role.
func (s *Server) connect(ctx context.Context, role, password, name string) (*pgx.Conn, error) {
	config, err := pgx.ParseConfig(s.url(role, password, name))
	if err != nil {
		return nil, err
	}
	config.DialFunc = s.Dial
	return pgx.ConnectConfig(ctx, config)
}

// clean removes the pid file of a server that is no more.
func (p *place) clean() error {
	err := p.base.Remove(filepath.Join(dataName, "postmaster.pid"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// lastWords are the end of the server's log.
func (p *place) lastWords() string {
	f, err := p.root.Open(logName)
	if err != nil {
		return err.Error()
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err.Error()
	}
	text := make([]byte, min(info.Size(), 2<<10))
	n, _ := f.ReadAt(text, info.Size()-int64(len(text)))
	lines := strings.Split(strings.TrimSpace(string(text[:n])), "\n")
	return strings.Join(lines[max(0, len(lines)-3):], " | ")
}

// maxLog is how large the server's log may grow before it is put aside, in bytes.
const maxLog = 5 << 20

// rotate puts the server's log aside when it is large. The server goes on
// writing to the file that it has open, at its new end.
func (p *place) rotate() error {
	f, err := p.root.OpenFile(logName, os.O_RDWR|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || info.Size() < maxLog {
		return err
	}
	aside, err := p.root.OpenFile(logName+".1", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.WriteTo(aside)
	return errors.Join(err, aside.Close(), f.Truncate(0))
}
