//go:build unix

package inputfile

import (
	"io/fs"
	"os"
	"syscall"
)

const nonblocking = syscall.O_NONBLOCK

// openStream takes over an open descriptor. It is duplicated, since opening the
// path again fails for sockets and starts a second reader for pipes.
func openStream(path string, descriptor int) (*os.File, fs.FileInfo, error) {
	own, err := syscall.Dup(descriptor)
	if err != nil {
		return nil, nil, &fs.PathError{Op: "open", Path: path, Err: err}
	}
	syscall.CloseOnExec(own)
	file := os.NewFile(uintptr(own), path)
	info, err := file.Stat()
	return file, info, err
}
