package serverconf

import (
	"fmt"
	"regexp"
	"strings"

	"nurvik/core/facts"
)

// Change is an edit of one file: lines that are taken out, and those that stand in their place.
type Change struct {
	File string
	Line int      // the first that is taken out, or behind which the new ones stand where none is
	Old  []string // none for an insertion
	New  []string // none for a removal
}

// Diff is the change as a unified diff of the file, with the lines around it where they are known.
func (c Change) Diff(lines []string) string {
	return "--- " + c.File + "\n+++ " + c.File + "\n" + hunks(lines, []Change{c})
}

// Set is the change that gives a directive another value: where it is written, that line with the new value; where it
// is not, a new line behind the anchor. It reports false where no change of a single line does it.
func Set(c *facts.Configuration, s facts.Setting, value string, anchor facts.Setting) (Change, bool) {
	kind, known := kindNamed(c.Server)
	if !known {
		return Change{}, false
	}
	if s.Default || s.Line.Line == 0 {
		return insert(c, kind, s, value, anchor)
	}
	lines := c.Lines(s.File)
	if s.Line.Line > len(lines) {
		return Change{}, false
	}
	old := lines[s.Line.Line-1]
	changed, ok := kind.replaced(old, s.Directive, value)
	if !ok || changed == old {
		return Change{}, false
	}
	return Change{File: s.File, Line: s.Line.Line, Old: []string{old}, New: []string{changed}}, true
}

// Remove is the change that takes a directive out, where it stands on a line by itself.
func Remove(c *facts.Configuration, s facts.Setting) (Change, bool) {
	lines := c.Lines(s.File)
	kind, known := kindNamed(c.Server)
	if !known || s.Default || s.Line.Line == 0 || s.Line.Line > len(lines) {
		return Change{}, false
	}
	old := lines[s.Line.Line-1]
	if _, ok := kind.replaced(old, s.Directive, "x"); !ok || kind.Shape == Keystore ||
		!strings.HasPrefix(strings.TrimSpace(old), s.Directive) || strings.Count(old, ";") > 1 {
		return Change{}, false
	}
	return Change{File: s.File, Line: s.Line.Line, Old: []string{old}}, true
}

func insert(c *facts.Configuration, kind *Server, s facts.Setting, value string, anchor facts.Setting) (Change, bool) {
	lines := c.Lines(anchor.File)
	if anchor.Line.Line == 0 || anchor.Line.Line > len(lines) || kind.Apart || strings.Contains(s.Directive, " ") {
		return Change{}, false
	}
	line := lines[anchor.Line.Line-1]
	if open, shut := strings.Count(line, "{"), strings.Count(line, "}"); open+shut > 0 && kind.Form == "%s %s;" {
		return Change{}, false // behind the line is not within its block
	}
	if _, ok := kind.replaced(line, anchor.Directive, "x"); !ok { // something else stands on that line
		return Change{}, false
	}
	indent := line[:len(line)-len(strings.TrimLeft(line, " \t"))]
	return Change{File: anchor.File, Line: anchor.Line.Line, New: []string{indent +
		fmt.Sprintf(kind.Form, s.Directive, value)}}, true
}

func kindNamed(name string) (*Server, bool) {
	for _, k := range kinds {
		if k.Name == name {
			return k, true
		}
	}
	return nil, false
}

// replaced is the line with another value for the directive. It reports false where the statement is not whole on it.
func (k *Server) replaced(line, directive, value string) (string, bool) {
	name := regexp.QuoteMeta(directive)
	var pattern string
	switch {
	case strings.HasSuffix(k.Form, ";"):
		pattern = `^((?:[^#"']*[;{])?\s*` + name + `\s+)([^;{}#]*?)(\s*;.*)$`
	case k.Name == "Tomcat":
		pattern = `^(.*\b` + name + `\s*=\s*")([^"]*)(".*)$`
	case k.Name == "Prosody":
		pattern = `^(.*\b` + name + `\s*=\s*["'])([^"']*)(["'].*)$`
		value = strings.Trim(value, `"`)
	case strings.Contains(k.Form, "="):
		pattern = `^(\s*` + name + `\s*=\s*<?["']?)([^"'#]*?)(["']?\s*(?:#.*)?)$`
	default:
		pattern = `(?i)^(\s*` + name + `:{0,2}\s+["']?)([^"']*?)(["']?\s*)$`
	}
	m := regexp.MustCompile(pattern).FindStringSubmatch(line)
	if m == nil || strings.HasSuffix(line, "\\") {
		return "", false
	}
	return m[1] + value + m[3], true
}
