package intake

import (
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
	path string
	file facts.File
	err  error
}

// Walk reads every file below the directory, several at once, and hands them
// on in lexical order: each in which something is recognised to found, those
// that cannot be read to failed. Files in which nothing is recognised are
// passed over.
func Walk(directory string, found func(facts.File), failed func(path string, err error)) error {
	processors := runtime.GOMAXPROCS(0)
	pending := make(chan chan result, readAhead*processors)
	slots := make(chan struct{}, processors)
	ended := make(chan error, 1)
	go func() {
		ended <- filepath.WalkDir(directory, func(path string, entry fs.DirEntry, err error) error {
			answer := make(chan result, 1)
			switch {
			case err != nil:
				answer <- result{path: path, err: err}
			case !isFile(path, entry):
				return nil
			default:
				slots <- struct{}{}
				go func() {
					defer func() { <-slots }()
					file, err := ReadFile(path)
					answer <- result{path, file, err}
				}()
			}
			pending <- answer
			return nil
		})
		close(pending)
	}()
	for answer := range pending {
		switch r := <-answer; {
		case errors.Is(r.err, ErrNothing):
		case r.err != nil:
			failed(r.path, r.err)
		default:
			found(r.file)
		}
	}
	return <-ended
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
