package postgres

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os/exec"
	"path/filepath"
	"strings"
)

// Tools are PostgreSQL's own programs for one database.
type Tools struct {
	directory   string   // of the programs
	environment []string // that tells them where the database is, and the password
	arguments   []string
}

// Tools returns the programs for the private database.
func (s *Server) Tools() Tools {
	return Tools{directory: s.binaries, environment: append([]string{"PGHOST=" + filepath.Dir(s.place.socket()),
		"PGPORT=5432", "PGUSER=" + serviceRole, "PGPASSWORD=" + s.passwords.service, "PGDATABASE=" + database},
		environment...)}
}

// ToolsFor returns the programs for the database at a URL, out of the directory or Debian's newest.
func ToolsFor(ctx context.Context, address, binaries string) (Tools, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return Tools{}, errors.New("the database URL cannot be read; write postgres://USER@HOST/NAME")
	}
	s := &Server{options: Options{Binaries: binaries}, place: &place{}}
	installed := s.installed(ctx)
	if len(installed) == 0 {
		return Tools{},
			errors.New("PostgreSQL's programs are not installed; install the package postgresql-client, or " +
				"name their directory with --postgres-bin")
	}
	t := Tools{directory: installed[0].path, environment: environment}
	if password, ok := u.User.Password(); ok { // which is nothing for a list of processes
		t.environment = append([]string{"PGPASSWORD=" + password}, environment...)
		u.User = url.User(u.User.Username())
	}
	t.arguments = []string{"--dbname=" + u.String()}
	return t, nil
}

func (t Tools) command(ctx context.Context, program string, arguments ...string) *exec.Cmd {
	c := exec.CommandContext(ctx, filepath.Join(t.directory, program), arguments...)
	c.Env = t.environment
	return c
}

// Dump writes the whole database in pg_dump's own form, as it is at one moment, whatever others do meanwhile.
func (t Tools) Dump(ctx context.Context, out io.Writer) error {
	c := t.command(ctx, "pg_dump", append(t.arguments, "--format=custom", "--no-owner", "--no-privileges")...)
	var words strings.Builder
	c.Stdout, c.Stderr = out, &words
	return said("pg_dump", c.Run(), &words)
}

// Magic begins every dump.
const Magic = "PGDMP"

// Restore puts a dump in the place of all that is in the database, or changes nothing.
func (t Tools) Restore(ctx context.Context, dump string) error {
	script := t.command(ctx, "pg_restore", "--no-owner", "--no-privileges", "--file=-", dump)
	load := t.command(ctx, "psql", append(t.arguments, "--no-psqlrc", "--quiet", "--set=ON_ERROR_STOP=1",
		"--output=/dev/null", "--file=-")...)
	var scriptWords, loadWords strings.Builder
	script.Stderr, load.Stderr = &scriptWords, &loadWords
	text, err := script.StdoutPipe()
	if err != nil {
		return err
	}
	in, err := load.StdinPipe()
	if err != nil {
		return err
	}
	if err := script.Start(); err != nil {
		return fmt.Errorf("pg_restore: %w", err)
	}
	if err := load.Start(); err != nil {
		_ = script.Process.Kill()
		return errors.Join(fmt.Errorf("psql: %w", err), script.Wait())
	}
	_, sent := io.WriteString(in, "BEGIN;\nSET client_min_messages = warning;\n"+
		"DROP SCHEMA public CASCADE;\nCREATE SCHEMA public;\n")
	if sent == nil {
		_, sent = io.Copy(in, text)
	}
	_, _ = io.Copy(io.Discard, text) // it ends only when somebody has read what it says
	whole := said("pg_restore", script.Wait(), &scriptWords)
	if sent == nil && whole == nil { // without it nothing counts
		_, sent = io.WriteString(in, "\nCOMMIT;\n")
	}
	closed := in.Close()
	loaded := said("psql", load.Wait(), &loadWords)
	if whole != nil || loaded != nil { // which say more than that nobody reads any more
		return errors.Join(whole, loaded)
	}
	return errors.Join(sent, closed)
}

// said makes an error of a program's last words.
func said(program string, err error, words *strings.Builder) error {
	if err == nil {
		return nil
	}
	text := strings.TrimSpace(words.String())
	if len(text) > 500 {
		text = text[:500] + " …"
	}
	return fmt.Errorf("%s: %w: %s", program, err, text)
}
