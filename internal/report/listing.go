package report

import (
	"bytes"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
)

// gap is what stands between two columns.
const gap = "  "

// listing is a table of any number of rows. It has the look of NewTable, and
// makes each row when it is written.
type listing struct {
	header []string
	widths []int
}

func newListing(header ...string) *listing {
	l := &listing{header: make([]string, len(header)), widths: make([]int, len(header))}
	for i, h := range header {
		l.header[i] = strings.ToUpper(h)
		l.widths[i] = len(h)
	}
	return l
}

// measure makes the columns wide enough for the cells.
func (l *listing) measure(cells ...string) {
	for i, cell := range cells {
		l.widths[i] = max(l.widths[i], cellWidth(cell))
	}
}

// write writes the header and the rows.
func (l *listing) write(w io.Writer, count int, row func(i int) []string) error {
	return l.writeSeveral(w, count, func(i int, each func([]string)) { each(row(i)) })
}

// writeSeveral is the same for things that have several rows each.
func (l *listing) writeSeveral(w io.Writer, count int, rows func(i int, each func([]string))) error {
	var head bytes.Buffer
	l.row(&head, l.header)
	total := 0
	for _, width := range l.widths {
		total += width + len(gap)
	}
	head.WriteString(strings.Repeat("─", total) + "\n")
	if _, err := w.Write(head.Bytes()); err != nil {
		return err
	}
	return inBlocks(w, count, func(out *bytes.Buffer, i int) error {
		rows(i, func(cells []string) { l.row(out, cells) })
		return nil
	})
}

// row writes a row, whose cells may have several lines, without spaces at the ends.
func (l *listing) row(out *bytes.Buffer, cells []string) {
	for more := true; more; {
		more = false
		start, pending := out.Len(), 0
		for i, cell := range cells {
			line, rest, cut := strings.Cut(cell, "\n")
			if cells[i] = rest; cut {
				more = true
			}
			if line != "" {
				spaces(out, pending)
				pending = 0
				out.WriteString(line)
			}
			pending += l.widths[i] + len(gap) - lineWidth(line)
		}
		trimmed := bytes.TrimRight(out.Bytes()[start:], " ")
		out.Truncate(start + len(trimmed))
		out.WriteByte('\n')
	}
}

func spaces(out *bytes.Buffer, n int) {
	const many = "                                                                "
	for ; n > len(many); n -= len(many) {
		out.WriteString(many)
	}
	if n > 0 {
		out.WriteString(many[:n])
	}
}

func cellWidth(cell string) int {
	widest := 0
	for line := range strings.SplitSeq(cell, "\n") {
		widest = max(widest, lineWidth(line))
	}
	return widest
}

// lineWidth is how many columns of a terminal a line takes.
func lineWidth(line string) int {
	for i := range len(line) {
		if line[i] < ' ' || line[i] > '~' {
			return text.StringWidthWithoutEscSequences(line)
		}
	}
	return len(line)
}

// wrap breaks the text between words, without spaces at the ends of its lines.
func wrap(line string, width int) string {
	if len(line) <= width && strings.IndexByte(line, '\n') < 0 {
		return strings.TrimRight(line, " ")
	}
	if out, ok := wrapPlain(line, width); ok {
		return out
	}
	lines := strings.Split(text.WrapSoft(line, width), "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " ")
	}
	return strings.Join(lines, "\n")
}

// wrapPlain wraps the usual text: printable ASCII with single spaces, and no word longer than a line.
func wrapPlain(line string, width int) (string, bool) {
	var out strings.Builder
	out.Grow(len(line) + 8)
	used := 0
	for i := 0; i < len(line); {
		end := i
		for end < len(line) && line[end] > ' ' && line[end] <= '~' {
			end++
		}
		size := end - i
		if size == 0 || size > width || end < len(line) && (line[end] != ' ' || end+1 == len(line)) {
			return "", false
		}
		switch {
		case used == 0:
		case used+1+size > width:
			out.WriteByte('\n')
			used = 0
		default:
			out.WriteByte(' ')
			used++
		}
		out.WriteString(line[i:end])
		used += size
		i = end + 1
	}
	return out.String(), true
}
