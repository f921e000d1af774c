package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"nurvik/core/brief"
	"nurvik/core/facts"
	"nurvik/core/inputfile"
	"nurvik/core/intake"
	"nurvik/core/judge"
	"nurvik/core/keystore"
	"nurvik/core/pack"
	"nurvik/core/pbe"
	"nurvik/internal/audit"
)

// materialFlags are the flags of commands that read files.
type materialFlags struct {
	passwordFiles []string
}

func (a *app) addMaterial(cmd *cobra.Command, f *materialFlags) {
	cmd.Flags().StringArrayVar(&f.passwordFiles, "password-file", nil,
		"read passwords for keys and keystores from `FILE`, one per line; repeat for more. NURVIK_PASSWORD is "+
			"tried too")
}

// sharedFlag leaves out the search for shared prime factors.
type sharedFlag struct{ out bool }

func (s *sharedFlag) add(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&s.out, "no-shared-primes", false, "do not search for prime factors that RSA keys share")
}

// step is nil when the search is left out.
func (s *sharedFlag) step(show judge.SharedStep) judge.SharedStep {
	if s.out {
		return nil
	}
	return show
}

// askingFlags say what issuers are asked.
type askingFlags struct {
	none, issuers bool
	networks      []string
}

func (f *askingFlags) add(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.BoolVar(&f.none, "no-revocation", false, "do not ask issuers about revocation")
	flags.BoolVar(&f.issuers, "fetch", false, "fetch missing intermediates from the URLs in the certificates")
	flags.StringArrayVar(&f.networks, "allow-network", nil,
		"also ask issuers in this `NETWORK` on ports 80 and 443, such as 10.0.0.0/8, or on others with "+
			"10.0.0.0/8=80,8080; public addresses are always allowed; repeat for more")
}

// passwords collects what is to be tried, in the order of the call.
func (a *app) passwords(f *materialFlags) ([]string, error) {
	var out []string
	for _, path := range f.passwordFiles {
		file, _, err := inputfile.Open(path)
		if err != nil {
			return nil, usage(fmt.Errorf("--password-file: %w", err))
		}
		lines := bufio.NewScanner(file)
		for lines.Scan() {
			out = append(out, strings.TrimSuffix(lines.Text(), "\r"))
		}
		err = errors.Join(lines.Err(), file.Close())
		if err != nil {
			return nil, usage(fmt.Errorf("--password-file %s: %w", path, err))
		}
	}
	if a.password != "" {
		out = append(out, a.password)
	}
	return out, nil
}

// gather reads everything that the call names.
func (a *app) gather(ctx context.Context, f *materialFlags, paths []string, forget bool) (*audit.Source, error) {
	return a.gatherWith(ctx, f, paths, func(passwords []string) *intake.Reader {
		return &intake.Reader{Opener: keystore.Opener{Passwords: passwords, Budget: &pbe.Budget{}},
			Memory: &brief.Memory{Forget: forget}, Report: a.report}
	})
}

// gatherKeys does the same and keeps the private keys that could be opened.
func (a *app) gatherKeys(ctx context.Context, f *materialFlags, paths []string, ring *pack.Keyring) (*audit.Source,
	error) {
	return a.gatherWith(ctx, f, paths, func(passwords []string) *intake.Reader {
		return &intake.Reader{Opener: keystore.Opener{Passwords: passwords, Budget: &pbe.Budget{}}, Private: ring.Add,
			Memory: &brief.Memory{}, Report: a.report}
	})
}

func (a *app) gatherWith(ctx context.Context, f *materialFlags, paths []string,
	reader func(passwords []string) *intake.Reader) (*audit.Source, error) {
	passwords, err := a.passwords(f)
	if err != nil {
		return nil, err
	}
	source, err := a.read(ctx, reader(passwords), paths)
	if err != nil {
		return nil, err
	}
	if password, ok := a.unlock(paths, passwords, source.Files); ok {
		return a.read(ctx, reader([]string{password}), paths)
	}
	return source, nil
}

func (a *app) read(ctx context.Context, reader *intake.Reader, paths []string) (*audit.Source, error) {
	progress, finish := a.counter("reading")
	defer finish()
	source := &audit.Source{Reader: reader, Stdin: a.stdin, Progress: progress}
	for _, path := range paths {
		isPath, err := source.Add(ctx, path)
		if err != nil {
			return nil, err
		}
		if !isPath {
			source.Unexamined = append(source.Unexamined,
				audit.Unexamined{Target: path, Reason: "there is no such file or directory"})
		}
	}
	return source, nil
}

// readOnce reports whether a target is a stream, which nobody can read again.
func readOnce(target string) bool {
	_, stream := inputfile.Stream(target)
	return stream || target == "-"
}

// unlock asks for a password when something is locked, none was given and
// somebody is there to ask, unless a stream is among the targets.
func (a *app) unlock(paths, passwords []string, files []facts.File) (password string, ok bool) {
	if len(passwords) > 0 || slices.ContainsFunc(paths, readOnce) || !a.attended() {
		return "", false
	}
	locked := 0
	for _, f := range files {
		if reason, _ := judge.Locked(f); reason == facts.NoPassword {
			locked++
		}
	}
	if locked == 0 {
		return "", false
	}
	password, err := a.ask(fmt.Sprintf("Files that need a password: %d. Password (empty to leave them locked): ",
		locked))
	return password, err == nil && password != ""
}

// attended reports whether there is a terminal to ask at.
func (a *app) attended() bool {
	file, ok := a.stdin.(*os.File)
	return ok && term.IsTerminal(int(file.Fd())) && a.interactive()
}

// askPassword reads a password from the terminal without showing it.
func askPassword(prompt string) (string, error) {
	fmt.Fprint(os.Stderr, prompt)
	password, err := term.ReadPassword(int(os.Stdin.Fd()))
	fmt.Fprintln(os.Stderr)
	return string(password), err
}
