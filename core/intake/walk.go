package intake

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"

	"nurvik/core/facts"
)

// readAhead is how many files may be read before they are handed on, for each
// processor: enough to keep all busy, few enough to bound the memory.
const readAhead = 16

// result is one path of a walk, read or not.
type result struct {
	path  string
	files []facts.File
	err   error
}

// Walk reads every file below the directory, several at once, and hands them
// on in lexical order: what is recognised to found, those that cannot be read
// to failed. Files in which nothing is recognised are passed over; one that
// passes a limit is found, with the defect. The error is the context's, or
// says why the directory cannot be walked.
func (r *Reader) Walk(ctx context.Context, directory string, found func(facts.File), failed func(path string, err error)) error {
	processors := runtime.GOMAXPROCS(0)
	pending := make(chan chan result, readAhead*processors)
	slots := make(chan struct{}, processors)
	ended := make(chan error, 1)
	go func() {
		defer close(pending)
		ended <- filepath.WalkDir(entered(directory), func(path string, entry fs.DirEntry, err error) error {
			answer := make(chan result, 1)
			switch {
			case ctx.Err() != nil:
				return ctx.Err()
			case err != nil:
				answer <- result{path: path, err: err}
			case !isFile(path, entry):
				return nil
			default:
				slots <- struct{}{}
				go func() {
					defer func() { <-slots }()
					files, err := r.ReadFile(path)
					answer <- result{path, files, err}
				}()
			}
			pending <- answer
			return nil
		})
	}()
	for answer := range pending {
		a := <-answer
		if a.err != nil && !errors.Is(a.err, ErrNothing) && !errors.Is(a.err, ErrTooLarge) {
			failed(a.path, a.err)
		}
		for _, f := range a.files {
			if len(f.Items)+len(f.Defects) > 0 {
				found(f)
			}
		}
	}
	return <-ended
}

// entered makes a directory that is a link one that is walked.
func entered(directory string) string {
	if info, err := os.Lstat(directory); err == nil && info.Mode()&fs.ModeSymlink != 0 {
		return filepath.Clean(directory) + string(filepath.Separator)
	}
	return directory
}

// isFile follows links, because certificates are often linked; one that leads
// nowhere counts as a file, so that reading it says so.
func isFile(path string, entry fs.DirEntry) bool {
	if entry.Type().IsRegular() {
		return true
	}
	if entry.IsDir() {
		return false
	}
	info, err := os.Stat(path)
	return err != nil || info.Mode().IsRegular()
}
