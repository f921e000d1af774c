package intake

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"

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
// to failed. Files in which nothing is recognised are passed over, with their
// defects, unless name or place says that material is meant; so are links that
// lead nowhere. A file that is reached on several paths is found once. The
// error is the context's, or says why the directory cannot be walked.
func (r *Reader) Walk(ctx context.Context, directory string, found func(facts.File),
	failed func(path string, err error)) error {
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
		ended <- r.collect(ctx, directory, func(p *portion) {
			ordered <- p
			work <- p
		})
	}()
	met := seen{}
	for p := range ordered {
		<-p.done
		for _, a := range p.results {
			if a.err != nil && !errors.Is(a.err, ErrNothing) && !errors.Is(a.err, ErrTooLarge) {
				failed(a.path, a.err)
			}
			if met.before(a) {
				continue
			}
			for i := range a.files {
				if worthTelling(&a.files[i]) {
					found(a.files[i])
				}
			}
		}
	}
	return <-ended
}

// seen are the files that a walk has met.
type seen map[[2]uint64]bool

// before reports whether the file was met on another path.
func (s seen) before(r result) bool {
	if len(r.files) == 0 || r.files[0].Access == nil || r.files[0].Access.Inode == 0 {
		return false
	}
	id := [2]uint64{r.files[0].Access.Device, r.files[0].Access.Inode}
	known := s[id]
	s[id] = true
	return known
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
func (r *Reader) collect(ctx context.Context, directory string, hand func(*portion)) error {
	p := &portion{done: make(chan struct{})}
	flush := func() {
		if len(p.results) > 0 {
			hand(p)
			p = &portion{done: make(chan struct{})}
		}
	}
	defer flush()
	root := entered(directory)
	inside, _ := filepath.EvalSymlinks(root) // a root that is gone is told by the walk
	return filepath.WalkDir(root, func(path string, entry fs.DirEntry, err error) error {
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err == nil && documentation(path) && !documentation(root+"/x.gz"):
			return nil
		case err == nil && !isFile(path, entry, inside):
			r.noteLinked(path, entry, inside)
			return nil
		}
		if p.results = append(p.results, result{path: path, link: entry == nil || !entry.Type().IsRegular(),
			err: err}); len(p.results) == portionSize {
			flush()
		}
		return nil
	})
}

// noteLinked tells of a link to a directory outside of what is walked.
func (r *Reader) noteLinked(path string, entry fs.DirEntry, inside string) {
	if r.Linked == nil || entry.Type()&fs.ModeSymlink == 0 {
		return
	}
	info, err := os.Stat(path)
	if err != nil || !info.IsDir() {
		return
	}
	real, err := filepath.EvalSymlinks(path)
	if err == nil && real != inside && !strings.HasPrefix(real, inside+string(filepath.Separator)) {
		r.Linked(path, real)
	}
}

// entered makes a directory that is a link one that is walked.
func entered(directory string) string {
	if info, err := os.Lstat(directory); err == nil && info.Mode()&fs.ModeSymlink != 0 {
		return filepath.Clean(directory) + string(filepath.Separator)
	}
	return directory
}

// isFile follows links, because certificates are often linked. One that leads
// to a file inside of what is walked is that file; one that leads nowhere is none.
func isFile(path string, entry fs.DirEntry, inside string) bool {
	if entry.Type().IsRegular() {
		return true
	}
	if entry.Type()&fs.ModeSymlink == 0 {
		return false
	}
	info, err := os.Stat(path)
	if err != nil {
		return !errors.Is(err, fs.ErrNotExist)
	}
	if !info.Mode().IsRegular() {
		return false
	}
	real, err := filepath.EvalSymlinks(path)
	return err != nil || !strings.HasPrefix(real, inside+string(filepath.Separator))
}
