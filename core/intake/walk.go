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

// The paths of a walk are handed to the readers in portions, of which a few are
// read ahead: enough to keep all processors busy, few enough to bound the memory.
const (
	portionSize   = 16
	portionsAhead = 4 // for each processor
)

// result is one path of a walk, read or not.
type result struct {
	path  string
	link  bool // or anything else that is no regular file by itself
	files []facts.File
	err   error
}

// portion is some paths of a walk; done is closed when they were read.
type portion struct {
	results []result
	done    chan struct{}
}

// Walk reads every file below the directory, several at once, and hands them
// on in lexical order: what is recognised to found, those that cannot be read
// to failed. Files in which nothing is recognised are passed over; one that
// passes a limit is found, with the defect. The error is the context's, or
// says why the directory cannot be walked.
func (r *Reader) Walk(ctx context.Context, directory string, found func(facts.File), failed func(path string, err error)) error {
	processors := runtime.GOMAXPROCS(0)
	ordered, work := make(chan *portion, portionsAhead*processors), make(chan *portion)
	ended := make(chan error, 1)
	for range processors {
		go func() { // readers live as long as the walk, so that their stacks grow once
			for p := range work {
				r.readPortion(p)
			}
		}()
	}
	go func() {
		defer close(ordered)
		defer close(work)
		ended <- collect(ctx, directory, func(p *portion) {
			ordered <- p
			work <- p
		})
	}()
	for p := range ordered {
		<-p.done
		for _, a := range p.results {
			if a.err != nil && !errors.Is(a.err, ErrNothing) && !errors.Is(a.err, ErrTooLarge) {
				failed(a.path, a.err)
			}
			for _, f := range a.files {
				if len(f.Items)+len(f.Defects) > 0 {
					found(f)
				}
			}
		}
	}
	return <-ended
}

func (r *Reader) readPortion(p *portion) {
	defer close(p.done)
	for i := range p.results {
		switch a := &p.results[i]; {
		case a.err != nil:
		case a.link:
			a.files, a.err = r.ReadFile(a.path)
		default:
			a.files, a.err = r.readRegular(a.path)
		}
	}
}

// collect walks the tree and hands out its files in portions.
func collect(ctx context.Context, directory string, hand func(*portion)) error {
	p := &portion{done: make(chan struct{})}
	flush := func() {
		if len(p.results) > 0 {
			hand(p)
			p = &portion{done: make(chan struct{})}
		}
	}
	defer flush()
	return filepath.WalkDir(entered(directory), func(path string, entry fs.DirEntry, err error) error {
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err == nil && !isFile(path, entry):
			return nil
		}
		if p.results = append(p.results, result{path: path, link: entry == nil || !entry.Type().IsRegular(), err: err}); len(p.results) == portionSize {
			flush()
		}
		return nil
	})
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
