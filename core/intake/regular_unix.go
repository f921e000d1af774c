//go:build unix

package intake

import (
	"io"
	"io/fs"
	"syscall"

	"nurvik/core/facts"
)

// regular is a regular file that is open for reading. It spares what os.File
// does beside, which costs as much as reading a small file.
type regular struct {
	descriptor int
	stat       syscall.Stat_t
	done       int64 // bytes read so far
}

// openRegular opens a path that the walk found to be a regular file.
func openRegular(path string) (*regular, error) {
	f := &regular{}
	err := uninterrupted(func() (err error) {
		f.descriptor, err = syscall.Open(path, syscall.O_RDONLY|syscall.O_CLOEXEC|syscall.O_NONBLOCK, 0)
		return err
	})
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: path, Err: err}
	}
	if err := uninterrupted(func() error { return syscall.Fstat(f.descriptor, &f.stat) }); err != nil {
		f.Close()
		return nil, &fs.PathError{Op: "stat", Path: path, Err: err}
	}
	return f, nil
}

// uninterrupted repeats a call that a signal has interrupted.
func uninterrupted(call func() error) error {
	for {
		if err := call(); err != syscall.EINTR {
			return err
		}
	}
}

// Read implements io.Reader. Where the file has given what its size promised and
// less than was asked for, it has ended; some file systems give less before.
func (f *regular) Read(p []byte) (n int, err error) {
	err = uninterrupted(func() (err error) {
		n, err = syscall.Read(f.descriptor, p)
		return err
	})
	if err != nil {
		return 0, err
	}
	f.done += int64(n)
	if n == 0 || n < len(p) && f.stat.Size > 0 && f.done >= f.stat.Size {
		err = io.EOF
	}
	return n, err
}

// Close implements io.Closer.
func (f *regular) Close() error { return syscall.Close(f.descriptor) }

func (f *regular) size() int64 { return f.stat.Size }

// access tells who can read the file under the path.
func (f *regular) access(r *Reader, path string) *facts.Access {
	return r.accessOf(path, &f.stat, false)
}
