//go:build !unix

package inputfile

import (
	"io/fs"
	"os"
)

const nonblocking = 0

// openStream has nothing to take over here: such paths do not exist.
func openStream(path string, _ int) (*os.File, fs.FileInfo, error) {
	return nil, nil, &fs.PathError{Op: "open", Path: path, Err: os.ErrNotExist}
}
