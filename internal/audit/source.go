package audit

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"

	"nurvik/core/facts"
	"nurvik/core/intake"
	"nurvik/core/judge"
	"nurvik/core/plain"
)

// Source collects the files that a call names: paths, directories, archives
// and standard input.
type Source struct {
	Reader   *intake.Reader
	Stdin    io.Reader       // for the target "-"
	Progress func(files int) // told how many files were read so far; may be nil
	Finds    *Finds          // of configuration, which the reader collects; nil where none is looked for

	Files      []facts.File
	Unexamined []Unexamined
	Linked     []string // directories that links lead to, and that were not entered

	targets []string // for each file the target under which it was read
}

// Of are the files that were read for the target.
func (s *Source) Of(target string) []facts.File {
	var out []facts.File
	for i, f := range s.Files {
		if s.targets[i] == target {
			out = append(out, f)
		}
	}
	return out
}

// IsPath reports whether the target is a file or directory: it has a slash and
// no scheme, or exists as a path.
func IsPath(target string) bool {
	if target == "-" || strings.ContainsRune(target, '/') && !strings.Contains(target, "://") {
		return true
	}
	_, err := os.Stat(target)
	return err == nil
}

// Add reads the target. It reports false, having done nothing, when the target
// is no path. What cannot be read is noted as not examined; the error is for
// what makes the whole call impossible.
func (s *Source) Add(ctx context.Context, target string) (isPath bool, err error) {
	if !IsPath(target) {
		return false, nil
	}
	defer func() {
		for len(s.targets) < len(s.Files) {
			s.targets = append(s.targets, target)
		}
	}()
	info, statErr := os.Stat(target)
	switch {
	case target == "-":
		s.named(target, func() ([]facts.File, error) { return s.Reader.Read("standard input", s.Stdin) })
	case statErr == nil && info.IsDir():
		s.walk(ctx, target)
	default:
		s.named(target, func() ([]facts.File, error) { return s.Reader.ReadFile(target) })
	}
	return true, nil
}

func (s *Source) add(f facts.File) {
	s.Files = append(s.Files, f)
	if s.Progress != nil {
		s.Progress(len(s.Files))
	}
}

// named reads a file that the call names: here, what stays closed was not examined.
func (s *Source) named(target string, read func() ([]facts.File, error)) {
	files, err := read()
	s.Finds.name(target)
	if err != nil && !(errors.Is(err, intake.ErrNothing) && s.Finds.has(target)) {
		s.fail(target, err)
	}
	for _, f := range files {
		if len(f.Items)+len(f.Defects) == 0 {
			continue
		}
		s.add(f)
		if _, sentence := judge.Locked(f); sentence != "" {
			s.Unexamined = append(s.Unexamined, Unexamined{f.Path, sentence})
		}
	}
}

func (s *Source) walk(ctx context.Context, directory string) {
	before, finds := len(s.Files), s.Finds.count()
	s.Reader.Linked = func(path, to string) { s.Linked = append(s.Linked, plain.Text(path+" → "+to)) }
	err := s.Reader.Walk(ctx, directory, s.add, s.fail)
	switch {
	case errors.Is(err, context.Canceled):
		s.fail(directory, errors.New("interrupted before all of it was read"))
	case err != nil:
		s.fail(directory, err)
	case len(s.Files) == before && s.Finds.count() == finds:
		s.fail(directory, errors.New("nothing was recognised below it"))
	}
}

func (s *Source) fail(path string, err error) {
	reason := strings.TrimPrefix(err.Error(), path+": ")
	var failed *fs.PathError
	if errors.As(err, &failed) { // the path stands beside it already
		reason = failed.Err.Error()
	}
	s.Unexamined = append(s.Unexamined, Unexamined{plain.Text(path), plain.Lines(reason)})
}

// String is for messages.
func (u Unexamined) String() string { return fmt.Sprintf("%s: %s", u.Target, u.Reason) }
