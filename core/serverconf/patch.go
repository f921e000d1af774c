package serverconf

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// context is how many lines stand around a change in a diff.
const context = 3

// Patch joins changes into one unified diff: each once, two of one line joined where they change different parts of
// it, and else the first. lines are the lines of a file, as a split at line ends gives them; name is what the diff
// calls it.
func Patch(changes []Change, lines func(file string) []string, name func(file string) string) string {
	byFile := map[string][]Change{}
	var files []string
	for _, c := range changes {
		if _, known := byFile[c.File]; !known {
			files = append(files, c.File)
		}
		i := slices.IndexFunc(byFile[c.File], func(other Change) bool { return c.clashes(other) })
		if i < 0 {
			byFile[c.File] = append(byFile[c.File], c)
		} else if both, ok := byFile[c.File][i].with(c); ok {
			byFile[c.File][i] = both
		}
	}
	slices.Sort(files)
	var out strings.Builder
	for _, file := range files {
		slices.SortStableFunc(byFile[file], func(a, b Change) int { return cmp.Compare(a.first(), b.first()) })
		fmt.Fprintf(&out, "--- %s\n+++ %s\n", name(file), name(file))
		out.WriteString(hunks(lines(file), byFile[file]))
	}
	return out.String()
}

// clashes reports whether two changes cannot both be made, or are the same.
func (c Change) clashes(other Change) bool {
	if len(c.Old) == 0 && len(other.Old) == 0 { // two insertions clash where they say something of one directive
		return c.Line == other.Line && firstWord(c.New) == firstWord(other.New)
	}
	return len(c.Old) > 0 && len(other.Old) > 0 && c.Line < other.Line+len(other.Old) && other.Line < c.Line+len(c.Old)
}

// with joins a change of the same line, where the two change different parts of it.
func (c Change) with(other Change) (Change, bool) {
	if len(c.Old) != 1 || len(c.New) != 1 || len(other.Old) != 1 || len(other.New) != 1 || c.Line != other.Line ||
		c.Old[0] != other.Old[0] {
		return c, false
	}
	old := c.Old[0]
	from, until, text := span(old, other.New[0])
	first, last, own := span(old, c.New[0])
	switch {
	case from == first: // both say something of the same part
	case until <= first:
		return Change{c.File, c.Line, c.Old, []string{old[:from] + text + old[until:first] + own + old[last:]}}, true
	case last <= from:
		return Change{c.File, c.Line, c.Old, []string{old[:first] + own + old[last:from] + text + old[until:]}}, true
	}
	return c, false
}

// span is the part of a line that is another in its new form: from where until where, and what stands there then.
func span(old, now string) (from, until int, text string) {
	for from < min(len(old), len(now)) && old[from] == now[from] {
		from++
	}
	same := 0
	for same < min(len(old), len(now))-from && old[len(old)-1-same] == now[len(now)-1-same] {
		same++
	}
	return from, len(old) - same, now[from : len(now)-same]
}

func firstWord(lines []string) string {
	if len(lines) == 0 {
		return ""
	}
	words := strings.FieldsFunc(lines[0], func(r rune) bool { return r == ' ' || r == '\t' || r == '=' })
	if len(words) == 0 {
		return ""
	}
	return words[0]
}

// first is the line before which the change begins.
func (c Change) first() int {
	if len(c.Old) == 0 {
		return c.Line + 1
	}
	return c.Line
}

// hunks writes changes of one file, sorted by their lines, those that are near to each other together.
func hunks(lines []string, changes []Change) string {
	known := len(lines)
	ended := known > 0 && lines[known-1] == "" // the last line has its end
	if ended {
		known--
	}
	var out strings.Builder
	shift := 0
	for len(changes) > 0 {
		from := changes[0].first()
		begin := max(1, from-context)
		if len(lines) == 0 {
			begin = from
		}
		n, end := 0, 0 // changes of this hunk, and the last line of it
		for n < len(changes) && (n == 0 || changes[n].first() <= end+context+1) {
			last := changes[n].first() + len(changes[n].Old) - 1
			end = last
			if len(lines) > 0 {
				end = min(last+context, known)
			}
			n++
		}
		var body strings.Builder
		added, removed, at := 0, 0, begin
		write := func(sign byte, line string, last bool) {
			body.WriteByte(sign)
			body.WriteString(line)
			body.WriteByte('\n')
			if last && !ended && len(lines) > 0 {
				body.WriteString("\\ No newline at end of file\n")
			}
		}
		for _, c := range changes[:n] {
			for ; at < c.first(); at++ {
				write(' ', lines[at-1], at == known)
			}
			for _, old := range c.Old {
				write('-', old, at == known)
				at++
				removed++
			}
			for _, text := range c.New {
				write('+', text, false)
				added++
			}
		}
		for ; at <= end && at <= known; at++ {
			write(' ', lines[at-1], at == known)
		}
		length := at - begin
		fmt.Fprintf(&out, "@@ -%d,%d +%d,%d @@\n%s", begin, length, begin+shift, length+added-removed, body.String())
		shift += added - removed
		changes = changes[n:]
	}
	return out.String()
}
