//go:build unix

package outfile

import (
	"errors"
	"io/fs"
	"os"
	"syscall"
)

// keepOwner gives the new file the owner of the old one. Only root may.
func keepOwner(f *os.File, old string) error {
	info, err := os.Stat(old)
	if errors.Is(err, fs.ErrNotExist) || os.Geteuid() != 0 {
		return nil
	}
	if err != nil {
		return err
	}
	if owner, ok := info.Sys().(*syscall.Stat_t); ok {
		return f.Chown(int(owner.Uid), int(owner.Gid))
	}
	return nil
}
