package postgres

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	osuser "os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
)

// debianRoot is where Debian keeps PostgreSQL's programs, by major version.
const debianRoot = "/usr/lib/postgresql"

// findOwner decides whom the server runs as: PostgreSQL refuses to run as
// root, so root lends it to the user postgres.
func (s *Server) findOwner() error {
	if os.Geteuid() != 0 {
		return nil
	}
	account, err := osuser.Lookup("postgres")
	if err != nil {
		return errors.New("PostgreSQL does not run as root and there is no user postgres; install the package " +
			"postgresql, or start nurvikd as an ordinary user")
	}
	uid, errU := strconv.ParseUint(account.Uid, 10, 32)
	gid, errG := strconv.ParseUint(account.Gid, 10, 32)
	if err := errors.Join(errU, errG); err != nil {
		return err
	}
	s.owner = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	return nil
}

// give makes the database's user the owner.
func (s *Server) give(path string) error {
	if s.owner == nil {
		return nil
	}
	return os.Chown(path, int(s.owner.Uid), int(s.owner.Gid))
}

// findBinaries returns the directory of the programs that fit the cluster.
func (s *Server) findBinaries() (string, error) {
	installed := s.installed()
	if len(installed) == 0 {
		return "",
			errors.New("PostgreSQL is not installed; install the package postgresql, name its programs with " +
				"--postgres-bin, or name a database with --database")
	}
	text, err := os.ReadFile(filepath.Join(s.data(), "PG_VERSION"))
	if errors.Is(err, os.ErrNotExist) {
		return installed[0].path, nil
	}
	if err != nil {
		return "", err
	}
	wanted := strings.TrimSpace(string(text))
	for _, i := range installed {
		if strconv.Itoa(i.major) == wanted {
			return i.path, nil
		}
	}
	return "",
		fmt.Errorf("the database in %s was made by PostgreSQL %s, and version %d is installed. Nothing was changed. "+
			"Either install postgresql-%s and start again; or, with both installed, stop nurvikd, run pg_upgrade from "+
			"the old to the new version, and start again",
			s.data(), wanted, installed[0].major, wanted)
}

type installation struct {
	major int
	path  string
}

// installed lists the programs found, the newest first.
func (s *Server) installed() []installation {
	var out []installation
	add := func(directory string) {
		text, err := exec.Command(filepath.Join(directory, "postgres"), "--version").Output()
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

// create makes the cluster beside its place and moves it there when it is
// whole, so that an interrupted start leaves nothing half made.
func (s *Server) create(ctx context.Context, binaries string) error {
	fresh := s.path("database", "fresh")
	if err := os.RemoveAll(fresh); err != nil {
		return err
	}
	passwords := s.path("database", "password")
	if err := os.WriteFile(passwords, []byte(s.secret+"\n"), 0o600); err != nil {
		return err
	}
	defer os.Remove(passwords)
	if err := s.give(passwords); err != nil {
		return err
	}
	arguments := []string{"-D", fresh, "-U", user, "--pwfile", passwords, "--encoding", "UTF8", "--locale", "C.UTF-8",
		"--auth-local", "scram-sha-256", "--auth-host", "scram-sha-256"}
	if s.options.Unsafe {
		arguments = append(arguments, "--no-sync")
	}
	initdb := exec.CommandContext(ctx, filepath.Join(binaries, "initdb"), arguments...)
	initdb.Dir = s.base()
	initdb.SysProcAttr = &syscall.SysProcAttr{Credential: s.owner}
	if output, err := initdb.CombinedOutput(); err != nil {
		return fmt.Errorf("initdb in %s: %w: %s", s.base(), err, strings.TrimSpace(string(output)))
	}
	return os.Rename(fresh, s.data())
}

// adopt looks for a server that a killed predecessor left running. A pid file
// whose process is gone, or is another program, is removed.
func (s *Server) adopt(ctx context.Context) (bool, error) {
	pid, ok := s.pid()
	if !ok {
		return false, nil
	}
	if !s.isOurs(pid) {
		s.options.Log.Warn("removing a stale pid file of PostgreSQL", "pid", pid)
		return false, os.Remove(filepath.Join(s.data(), "postmaster.pid"))
	}
	if err := s.await(ctx); err != nil { // it may be in the middle of its own start
		return false,
			fmt.Errorf("PostgreSQL (process %d) runs on %s and does not let us in: %w; stop it and start again", pid,
				s.data(), err)
	}
	s.options.Log.Info("adopted the PostgreSQL that was still running", "pid", pid)
	return true, nil
}

// pid reads the pid file.
func (s *Server) pid() (int, bool) {
	text, err := os.ReadFile(filepath.Join(s.data(), "postmaster.pid"))
	if err != nil {
		return 0, false
	}
	line, _, _ := strings.Cut(string(text), "\n")
	pid, err := strconv.Atoi(strings.TrimSpace(line))
	return pid, err == nil && pid > 1
}

// isOurs reports whether the process is a PostgreSQL server on this cluster:
// it works in its data directory.
func (s *Server) isOurs(pid int) bool {
	directory, err := os.Readlink(filepath.Join("/proc", strconv.Itoa(pid), "cwd"))
	if err != nil {
		return false
	}
	data, err := filepath.EvalSymlinks(s.data())
	return err == nil && directory == data
}

func alive(pid int) bool { return !errors.Is(syscall.Kill(pid, 0), syscall.ESRCH) }
