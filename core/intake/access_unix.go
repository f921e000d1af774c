//go:build unix

package intake

import (
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"nurvik/core/facts"
)

// directory is what is known of one directory and the way to it.
type directory struct {
	own    fs.FileMode
	gid    uint32
	barred string     // the topmost directory on the way that others may not enter
	parent *directory // nil at the root
	path   string
}

// access tells who can read the file that was opened under the path.
func (r *Reader) access(path string, info fs.FileInfo) *facts.Access {
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return nil
	}
	return r.accessOf(path, stat, true)
}

func (r *Reader) accessOf(path string, stat *syscall.Stat_t, maybeLink bool) *facts.Access {
	a := &facts.Access{
		Mode: uint32(stat.Mode) & 0o777, Owner: r.name(stat.Uid, false), Group: r.name(stat.Gid, true),
		Root:   stat.Uid == 0,
		Device: uint64(stat.Dev), Inode: stat.Ino,
	}
	absolute, err := filepath.Abs(path)
	if err != nil {
		return a
	}
	if link, err := lstat(absolute, maybeLink); err == nil && link.Mode()&fs.ModeSymlink != 0 {
		if real, err := filepath.EvalSymlinks(absolute); err == nil {
			a.Links = []string{absolute, real}
			absolute = real
		}
	}
	d := r.directory(filepath.Dir(absolute))
	if d == nil {
		return a
	}
	a.Barred, a.BarredGroup = d.barred, d.barredGroup(stat.Gid)
	a.Listed = d.barred == "" && d.own.Perm()&0o5 == 0o5
	return a
}

// lstat looks at the path itself, where it may be a link.
func lstat(path string, maybeLink bool) (fs.FileInfo, error) {
	if !maybeLink {
		return nil, fs.ErrNotExist
	}
	return os.Lstat(path)
}

func (r *Reader) directory(path string) *directory {
	if known, ok := r.directories.Load(path); ok {
		return known.(*directory)
	}
	info, err := os.Stat(path)
	if err != nil {
		return nil
	}
	d := &directory{own: info.Mode(), path: path}
	if stat, ok := info.Sys().(*syscall.Stat_t); ok {
		d.gid = stat.Gid
	}
	if up := filepath.Dir(path); up != path {
		if d.parent = r.directory(up); d.parent != nil {
			d.barred = d.parent.barred
		}
	}
	if d.barred == "" && d.own.Perm()&0o1 == 0 {
		d.barred = path
	}
	r.directories.Store(path, d)
	return d
}

// barredGroup is the directory on the way that the group may not enter.
func (d *directory) barredGroup(gid uint32) string {
	if d == nil {
		return ""
	}
	if above := d.parent.barredGroup(gid); above != "" {
		return above
	}
	if d.own.Perm()&0o1 != 0 || d.gid == gid && d.own.Perm()&0o10 != 0 {
		return ""
	}
	return d.path
}

// name is the name of a user or group, else the number.
func (r *Reader) name(id uint32, group bool) string {
	number := strconv.FormatUint(uint64(id), 10)
	key := number
	if group {
		key = "group " + number
	}
	if known, ok := r.names.Load(key); ok {
		return known.(string)
	}
	name := number
	if group {
		if g, err := user.LookupGroupId(number); err == nil {
			name = g.Name
		}
	} else if u, err := user.LookupId(number); err == nil {
		name = u.Username
	}
	name = strings.ToValidUTF8(name, "?")
	r.names.Store(key, name)
	return name
}
