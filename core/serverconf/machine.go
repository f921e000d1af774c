package serverconf

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"nurvik/core/inputfile"
)

// Limits of reading one server's configuration. No real one comes near, and one
// that includes without end must not hold the audit up.
const (
	maxFiles      = 20_000    // files of one configuration
	maxFileSize   = 16 << 20  // bytes of a file
	maxTotal      = 128 << 20 // bytes of all files
	maxLine       = 1 << 20   // bytes of a line
	maxDepth      = 32        // files that include each other
	maxDirectives = 2_000_000
	maxTroubles   = 500
	maxValue      = 1 << 16 // bytes of a value with its variables put in
)

// Machine is where configuration is read from. It may be shared by several goroutines.
type Machine struct {
	Root string // where the machine's file system is mounted; "" for this machine's own

	once     sync.Once
	packages map[string]string // of Debian, with their versions
	people   people
}

// At is the path on this machine of a path of the other.
func (m *Machine) At(path string) string {
	if m.Root == "" {
		return path
	}
	return filepath.Join(m.Root, path)
}

// errTooLarge is a file over the limit.
var errTooLarge = errors.New("it is too large for a configuration")

// read reads a file of text.
func (m *Machine) read(path string) ([]byte, error) {
	file, _, err := inputfile.Open(path)
	if err != nil {
		return nil, reason(err)
	}
	defer file.Close()
	data, err := io.ReadAll(io.LimitReader(file, maxFileSize+1))
	if err != nil {
		return nil, reason(err)
	}
	if len(data) > maxFileSize {
		return nil, errTooLarge
	}
	return data, nil
}

// reason is what the system said, without the path.
func reason(err error) error {
	var failed *fs.PathError
	if errors.As(err, &failed) {
		return failed.Err
	}
	return err
}

// list are the paths that a pattern matches, sorted as servers sort them. Of a
// directory with very many files only as many are looked at as the limit allows, which full tells.
func (m *Machine) list(pattern string) (paths []string, full bool) {
	if !strings.ContainsAny(pattern, "*?[") {
		if _, err := os.Lstat(pattern); err != nil {
			return nil, false
		}
		return []string{pattern}, false
	}
	directories, name := []string{filepath.Dir(pattern)}, filepath.Base(pattern)
	if strings.ContainsAny(directories[0], "*?[") {
		directories, full = m.list(directories[0])
	}
	for _, directory := range directories {
		names, more := m.names(directory)
		full = full || more
		for _, n := range names {
			if strings.HasPrefix(n, ".") && !strings.HasPrefix(name, ".") {
				continue
			}
			if matched, err := filepath.Match(name, n); err == nil && matched {
				paths = append(paths, filepath.Join(directory, n))
			}
		}
		if len(paths) > maxFiles {
			return paths[:maxFiles], true
		}
	}
	return paths, full
}

// names are the names in a directory, sorted.
func (m *Machine) names(directory string) (names []string, full bool) {
	d, err := os.Open(directory)
	if err != nil {
		return nil, false
	}
	defer d.Close()
	const ahead = 4 * maxFiles // the pattern may match few of them
	names, err = d.Readdirnames(ahead)
	slices.Sort(names)
	return names, err == nil && len(names) == ahead
}

// Package is the version of a Debian package, "" where it is not installed or not known.
func (m *Machine) Package(names ...string) string {
	m.once.Do(func() {
		m.packages = map[string]string{}
		data, err := os.ReadFile(m.At("/var/lib/dpkg/status"))
		if err != nil {
			return
		}
		name := ""
		for s := bufio.NewScanner(bytes.NewReader(data)); s.Scan(); {
			if rest, is := bytes.CutPrefix(s.Bytes(), []byte("Package: ")); is {
				name = string(rest)
			} else if rest, is := bytes.CutPrefix(s.Bytes(), []byte("Version: ")); is {
				m.packages[name] = string(rest)
			}
		}
	})
	for _, name := range names {
		if version := m.packages[name]; version != "" {
			return upstream(version)
		}
	}
	return ""
}

// upstream is the version without what the distribution adds to it.
func upstream(version string) string {
	if _, rest, epoch := strings.Cut(version, ":"); epoch {
		version = rest
	}
	if at := strings.LastIndexByte(version, '-'); at > 0 {
		version = version[:at]
	}
	at := strings.IndexFunc(version, func(r rune) bool { return r != '.' && (r < '0' || r > '9') })
	if at > 0 {
		version = version[:at]
	}
	return version
}

// atLeast compares versions of numbers and dots; an unknown one is taken for new.
func atLeast(version string, than ...int) bool {
	if version == "" {
		return true
	}
	fields := strings.Split(version, ".")
	for i, n := range than {
		have := 0
		if i < len(fields) {
			for _, c := range fields[i] {
				have = have*10 + int(c-'0')
			}
		}
		if have != n {
			return have > n
		}
	}
	return true
}
