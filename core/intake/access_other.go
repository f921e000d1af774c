//go:build !unix

package intake

import (
	"io/fs"
	"os"

	"nurvik/core/facts"
)

// access is not known where there are no owners and permission bits, as in a browser.
func (r *Reader) access(string, fs.FileInfo) *facts.Access { return nil }

// regular is a regular file that is open for reading.
type regular struct{ *os.File }

func openRegular(path string) (regular, error) {
	file, err := os.Open(path)
	return regular{file}, err
}

func (f regular) size() int64 { return 0 }

func (f regular) access(*Reader, string) *facts.Access { return nil }
