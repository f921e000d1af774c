//go:build !unix

package intake

import (
	"io/fs"

	"nurvik/core/facts"
)

// access is not known where there are no owners and permission bits, as in a browser.
func (r *Reader) access(string, fs.FileInfo) *facts.Access { return nil }
