package serverconf

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// context is how many lines stand around a change in a diff.
const context = 3

// Patch joins changes into one unified diff: each once, and of two that change the same line the first. lines are the
// lines of a file, as a split at line ends gives them; name is what the diff calls it.
func Patch(changes []Change, lines func(file string) []string, name func(file string) string) string {
	byFile := map[string][]Change{}
	var files []string
	for _, c := range changes {
		if _, known := byFile[c.File]; !known {
			files = append(files, c.File)
		}
		if !slices.ContainsFunc(byFile[c.File], func(other Change) bool { return c.clashes(other) }) {
			byFile[c.File] = append(byFile[c.File], c)
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
