// Package inputfile opens the files that a call names. A call may name anything
// that has a path: a named pipe whose other end nobody opens, a device without
// end, a directory. Those are refused before they are opened, in one sentence.
package inputfile

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
)

// MaxText is the largest text of settings that is read, such as a policy or an estate, in bytes.
const MaxText = 64 << 20

// ErrNoFile is wrapped by the errors for what has a path and is no file.
var ErrNoFile = errors.New("not a file")

// streamForm are the names of what the process has open already, which is what
// a shell puts in the place of <(command).
var streamForm = regexp.MustCompile(`^/(?:dev|proc/(?:self|thread-self))/fd/(\d{1,6})$`)

// Stream is the descriptor that the path names, where it can be read only once:
// a pipe, a socket or a terminal. A redirected file is a file like any other.
func Stream(path string) (descriptor int, ok bool) {
	path = filepath.Clean(path)
	switch path {
	case "/dev/stdin":
		path = "/dev/fd/0"
	}
	m := streamForm.FindStringSubmatch(path)
	if m == nil {
		return 0, false
	}
	info, err := os.Stat(path)
	if err != nil || info.Mode().IsRegular() || info.IsDir() {
		return 0, false
	}
	descriptor, err = strconv.Atoi(m[1])
	return descriptor, err == nil
}

// Open opens a regular file, or a stream that the process has open already. The
// error wraps ErrNoFile for anything else, or is what the system said.
func Open(path string) (*os.File, fs.FileInfo, error) {
	if descriptor, ok := Stream(path); ok {
		return openStream(path, descriptor)
	}
	info, err := os.Stat(path)
	if err == nil {
		err = Check(path, info.Mode())
	}
	if err != nil {
		return nil, nil, err
	}
	file, err := os.OpenFile(path, os.O_RDONLY|nonblocking, 0) // a pipe may have come in its place meanwhile
	if err != nil {
		return nil, nil, err
	}
	if info, err = file.Stat(); err == nil {
		err = Check(path, info.Mode())
	}
	if err != nil {
		return nil, nil, errors.Join(err, file.Close())
	}
	return file, info, nil
}

// Read reads a text of settings whole. The error names the path.
func Read(path string) ([]byte, error) {
	file, _, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	data, err := io.ReadAll(io.LimitReader(file, MaxText+1))
	if err == nil && len(data) > MaxText {
		err = fmt.Errorf("%s: it has more than %d MiB", path, MaxText>>20)
	}
	return data, err
}

// Check refuses what is no regular file.
func Check(path string, mode fs.FileMode) error {
	what := ""
	switch {
	case mode.IsRegular():
		return nil
	case mode.IsDir():
		what = "a directory"
	case mode&fs.ModeNamedPipe != 0:
		what = "a named pipe (FIFO)"
	case mode&fs.ModeSocket != 0:
		what = "a socket"
	case mode&fs.ModeDevice != 0:
		what = "a device"
	default:
		what = "no regular file"
	}
	return &kindError{path, what}
}

// kindError says what a path is in the place of a file.
type kindError struct{ path, what string }

func (e *kindError) Error() string { return e.path + ": it is " + e.what + ", " + ErrNoFile.Error() }
func (e *kindError) Unwrap() error { return ErrNoFile }
