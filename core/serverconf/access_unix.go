//go:build unix

package serverconf

import (
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
)

// people are the users of a machine with their groups, as its own files say.
type people struct {
	once   sync.Once
	users  map[string]uint32
	groups map[string][]uint32 // by user
}

// identify is what a file is known by whatever its path.
func identify(info fs.FileInfo) (device, inode uint64) {
	if stat, ok := info.Sys().(*syscall.Stat_t); ok {
		return uint64(stat.Dev), stat.Ino
	}
	return 0, 0
}

// refuses is the file or the directory above it that the user may not open, "" where nothing bars the way, or the user
// is not known.
func (m *Machine) refuses(path, user string) string {
	if user == "" || user == "root" {
		return ""
	}
	m.people.once.Do(m.readPeople)
	uid, known := m.people.users[user]
	if !known {
		return ""
	}
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return ""
	}
	for at, need := real, uint32(0o4); ; at, need = filepath.Dir(at), 0o1 {
		info, err := os.Stat(at)
		if err != nil {
			return ""
		}
		stat, ok := info.Sys().(*syscall.Stat_t)
		if !ok {
			return ""
		}
		bits := uint32(stat.Mode) & 0o7
		switch {
		case stat.Uid == uid:
			bits = uint32(stat.Mode) >> 6 & 0o7
		case slices.Contains(m.people.groups[user], stat.Gid):
			bits = uint32(stat.Mode) >> 3 & 0o7
		}
		if bits&need == 0 {
			return at
		}
		if at == filepath.Dir(at) {
			return ""
		}
	}
}

func (m *Machine) readPeople() {
	m.people.users, m.people.groups = map[string]uint32{}, map[string][]uint32{}
	number := func(text string) (uint32, bool) {
		n, err := strconv.ParseUint(text, 10, 32)
		return uint32(n), err == nil
	}
	if data, err := m.read(m.At("/etc/passwd")); err == nil {
		for line := range strings.Lines(string(data)) {
			fields := strings.Split(strings.TrimSpace(line), ":")
			if len(fields) < 4 {
				continue
			}
			uid, ok := number(fields[2])
			gid, primary := number(fields[3])
			if ok && primary {
				m.people.users[fields[0]] = uid
				m.people.groups[fields[0]] = []uint32{gid}
			}
		}
	}
	if data, err := m.read(m.At("/etc/group")); err == nil {
		for line := range strings.Lines(string(data)) {
			fields := strings.Split(strings.TrimSpace(line), ":")
			if len(fields) < 4 {
				continue
			}
			gid, ok := number(fields[2])
			for user := range strings.SplitSeq(fields[3], ",") {
				if ok && user != "" {
					m.people.groups[user] = append(m.people.groups[user], gid)
				}
			}
		}
	}
}
