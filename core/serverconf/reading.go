package serverconf

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"nurvik/core/facts"
	"nurvik/core/spelling"
)

// Directive is one statement of a configuration, with the block that it opens.
type Directive struct {
	Name string
	Args []string
	Text string // all behind the name, as it is written
	facts.Line
	Last  int // the last line that it stands on, with its block
	Block []*Directive
	Opens bool // it has a block, if only an empty one
}

// Arg is the argument of the number, "" where there are fewer.
func (d *Directive) Arg(i int) string {
	if i < len(d.Args) {
		return d.Args[i]
	}
	return ""
}

// setting is the directive as a setting of its value.
func (d *Directive) setting(value string) facts.Setting {
	return facts.Setting{Directive: d.Name, Value: value, Line: d.Line}
}

// reading is the state of reading one configuration.
type reading struct {
	m          *Machine
	c          *facts.Configuration
	open       []string // files that are being read, each included by the one before
	total      int      // bytes
	directives int
	full       bool // a limit ended it
	named      map[string]bool
	told       map[string]bool // troubles
	user       string          // as whom the server opens files
}

// trouble notes what is wrong or was not understood.
func (r *reading) trouble(kind facts.TroubleKind, at facts.Line, code facts.Code, args ...any) {
	t := facts.Trouble{Kind: kind, Line: at, Reason: facts.Because(code, args...)}
	id := fmt.Sprint(t)
	if r.told[id] || len(r.c.Troubles) == maxTroubles {
		return // what a macro or an included file says twice is told once
	}
	if r.told == nil {
		r.told = map[string]bool{}
	}
	r.told[id] = true
	r.c.Troubles = append(r.c.Troubles, t)
}

func (r *reading) broken(at facts.Line, code facts.Code, args ...any) {
	r.trouble(facts.Broken, at, code, args...)
}

// limit notes once that a limit ended the reading.
func (r *reading) limit(at facts.Line, code facts.Code, args ...any) {
	if !r.full {
		r.full = true
		r.trouble(facts.LimitReached, at, code, args...)
	}
}

// one counts a directive.
func (r *reading) one(at facts.Line) bool {
	if r.directives++; r.directives > maxDirectives {
		r.limit(at, facts.ConfTooMuch, maxDirectives)
	}
	return !r.full
}

// text reads a file that the line includes. It reports false where there is nothing to read on.
func (r *reading) text(path string, from facts.Line) (string, bool) {
	switch {
	case r.full:
		return "", false
	case slices.Contains(r.open, path):
		r.broken(from, facts.ConfCycle, strings.Join(append(slices.Clone(r.open), path), " → "))
		return "", false
	case len(r.open) == maxDepth:
		r.limit(from, facts.ConfTooDeep, maxDepth)
		return "", false
	case len(r.c.Files) == maxFiles:
		r.limit(from, facts.ConfTooManyFiles, maxFiles)
		return "", false
	}
	data, err := r.m.read(path)
	switch {
	case errors.Is(err, errTooLarge):
		r.limit(facts.Line{File: path}, facts.ConfTooLarge, maxFileSize)
		return "", false
	case errors.Is(err, fs.ErrNotExist):
		r.broken(from, facts.ConfNoInclude, path)
		return "", false
	case err != nil:
		r.trouble(facts.NotUnderstood, from, facts.ConfUnreadable, path, err)
		return "", false
	}
	if r.total += len(data); r.total > maxTotal {
		r.limit(from, facts.ConfTooLarge, maxTotal)
		return "", false
	}
	text := strings.TrimPrefix(string(data), "\ufeff")
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		if len(line) > maxLine {
			r.limit(facts.Line{File: path, Line: i + 1}, facts.ConfLongLine, maxLine)
			return "", false
		}
	}
	if !slices.Contains(r.c.Files, path) {
		r.c.Files = append(r.c.Files, path)
		r.c.Remember(path, lines)
	}
	return text, true
}

// within reads a file with the function, as one that the present file includes.
func (r *reading) within(path string, from facts.Line, read func(text string)) {
	text, ok := r.text(path, from)
	if !ok {
		return
	}
	r.open = append(r.open, path)
	read(text)
	r.open = r.open[:len(r.open)-1]
}

// matching are the files of a pattern that the line includes.
func (r *reading) matching(pattern string, from facts.Line) []string {
	paths, full := r.m.list(pattern)
	if full {
		r.limit(from, facts.ConfTooManyFiles, maxFiles)
	}
	return paths
}

// absolute is the path on this machine of one in the configuration, relative to a directory of this machine.
func (r *reading) absolute(path, directory string) string {
	switch {
	case r.m.Root != "" && strings.HasPrefix(path, r.m.Root+"/"): // it is one of this machine already
		return filepath.Clean(path)
	case filepath.IsAbs(path):
		return r.m.At(filepath.Clean(path))
	}
	return filepath.Join(directory, path)
}

// names notes a file that the configuration names for TLS, and looks what is there. It returns the path.
func (r *reading) names(role facts.FileRole, s facts.Setting, directory string) facts.Setting {
	s.Value = r.absolute(s.Value, directory)
	id := string(role) + " " + s.Value
	if r.named == nil {
		r.named = map[string]bool{}
	}
	if r.named[id] {
		return s
	}
	r.named[id] = true
	n := facts.NamedFile{Setting: s, Path: s.Value, Role: role, User: r.user}
	info, err := os.Stat(s.Value)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		n.Missing = true
		beside, _ := r.m.names(filepath.Dir(s.Value))
		if near := spelling.Nearest(filepath.Base(s.Value), beside); near != "" {
			n.Near = filepath.Join(filepath.Dir(s.Value), near)
		}
	case err != nil:
		n.Failure = reason(err).Error()
	case info.IsDir():
		n.Directory = true
	case !info.Mode().IsRegular():
		n.Failure = "it is not a file"
	default:
		n.Device, n.Inode = identify(info)
		if file, err := os.Open(s.Value); err != nil {
			n.Failure = reason(err).Error()
		} else {
			file.Close()
		}
		n.Refused = r.m.refuses(s.Value, r.user)
	}
	r.c.Named = append(r.c.Named, n)
	return s
}
