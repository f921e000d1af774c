// Package outfile writes files that servers and people rely on: whole or not
// at all, never over something that is there unless that was asked for, and
// with the right mode from the first byte on.
package outfile

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// File is one file to be written.
type File struct {
	Path string
	Data []byte
	Mode fs.FileMode
}

// ErrExists says that a file is there already and may not be replaced.
var ErrExists = errors.New("it exists already")

// Write writes the files, all or none. Existing ones are replaced only where that was asked for; the owner of a file
// that is replaced is kept where the system allows it. Each file appears at once with all of its contents.
func Write(replace bool, files ...File) (err error) {
	seen := map[string]bool{}
	for _, f := range files {
		if seen[filepath.Clean(f.Path)] {
			return fmt.Errorf("%s would be written twice", f.Path)
		}
		seen[filepath.Clean(f.Path)] = true
		if info, err := os.Lstat(f.Path); err == nil {
			if !replace {
				return fmt.Errorf("%s: %w", f.Path, ErrExists)
			}
			if !info.Mode().IsRegular() && info.Mode()&fs.ModeSymlink == 0 {
				return fmt.Errorf("%s is no ordinary file, and is not replaced", f.Path)
			}
		}
	}
	staged := make([]string, len(files))
	defer func() {
		for _, path := range staged {
			if path != "" {
				_ = os.Remove(path) // gone already where all went well
			}
		}
	}()
	for i, f := range files {
		if staged[i], err = stage(f); err != nil {
			return fmt.Errorf("%s: %w", f.Path, cause(err))
		}
	}
	var placed []string
	for i, f := range files {
		if err := place(staged[i], f.Path, replace); err != nil {
			if !replace { // what was replaced cannot be had back
				for _, path := range placed {
					_ = os.Remove(path)
				}
			}
			return fmt.Errorf("%s: %w", f.Path, cause(err))
		}
		placed = append(placed, f.Path)
	}
	return nil
}

// cause leaves out the temporary path, which nobody asked for.
func cause(err error) error {
	var failed *fs.PathError
	var linked *os.LinkError
	switch {
	case errors.As(err, &failed):
		return failed.Err
	case errors.As(err, &linked):
		if errors.Is(linked.Err, fs.ErrExist) {
			return ErrExists
		}
		return linked.Err
	}
	return err
}

// stage writes the file beside its place. It is readable by nobody else until it is whole.
func stage(f File) (path string, err error) {
	temporary, err := os.CreateTemp(filepath.Dir(target(f.Path)), ".nurvik-*")
	if err != nil {
		return "", err
	}
	_, err = temporary.Write(f.Data)
	if err == nil {
		err = keepOwner(temporary, f.Path)
	}
	err = errors.Join(err, temporary.Chmod(f.Mode), temporary.Sync(), temporary.Close())
	return temporary.Name(), err
}

// place moves the file to its place. Where a link stands there, what it leads to is replaced.
func place(staged, path string, replace bool) error {
	if replace {
		return os.Rename(staged, target(path))
	}
	return os.Link(staged, path) // fails when a file has come there meanwhile
}

// target is where the path leads to.
func target(path string) string {
	if real, err := filepath.EvalSymlinks(path); err == nil {
		return real
	}
	return path
}
