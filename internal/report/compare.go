package report

import (
	"bytes"
	"fmt"
	"io"
	"strings"

	"nurvik/core/compare"
)

// CompareSchema names the form of the JSON of "nurvik compare".
const CompareSchema = "nurvik.compare/1"

// Compare is two things side by side.
func Compare(r *compare.Result) Document {
	return Document{Value: struct {
		Schema string `json:"schema"`
		*compare.Result
	}{CompareSchema, r}, Text: func(w io.Writer, s Style) error {
		var out bytes.Buffer
		out.WriteString(wrap(r.Sentence, s.columns()) + "\n")
		for i := range r.Pairs {
			p := &r.Pairs[i]
			title := ""
			if len(r.Pairs) > 1 {
				title = p.First.Label
				if p.Second.Label != title {
					title += " → " + p.Second.Label
				}
			}
			if err := sideBySide(&out, title, r, p.Rows, p.Differences, s.columns()); err != nil {
				return err
			}
		}
		if err := sideBySide(&out, "", r, r.Rows, r.Differences, s.columns()); err != nil {
			return err
		}
		for _, u := range r.Unknown {
			out.WriteString("\n" + wrap("Not compared: "+u, s.columns()) + "\n")
		}
		out.WriteString("\n" + compareVerdict(r) + "\n")
		_, err := w.Write(out.Bytes())
		return err
	}}
}

func compareVerdict(r *compare.Result) string {
	if r.Matters {
		return "They differ in what matters."
	}
	count := 0
	for i := range r.Pairs {
		count += len(r.Pairs[i].Differences)
	}
	if count+len(r.Differences) == 0 {
		return "There is no difference."
	}
	return "They do not differ in what matters."
}

// sideBySide is a table of the fields, and below it the differences in words.
func sideBySide(out *bytes.Buffer, title string, r *compare.Result, rows []compare.Row,
	differences []compare.Difference,
	width int) error {
	if len(rows) == 0 && len(differences) == 0 {
		return nil
	}
	out.WriteByte('\n')
	if title != "" {
		out.WriteString(title + "\n\n")
	}
	if len(rows) > 0 {
		room := max((width-30)/2, 20)
		name := func(text string) string { return wrap(text, room) }
		table := newListing("", name(r.First), name(r.Second), "")
		table.header = []string{"", name(r.First), name(r.Second), ""}
		table.measure(table.header...)
		cells := make([][]string, len(rows))
		for i, row := range rows {
			mark := ""
			if !row.Same {
				mark = "≠"
			}
			cells[i] = []string{row.Field, cell(row.First, room), cell(row.Second, room), mark}
			table.measure(cells[i]...)
		}
		if err := table.write(out, len(rows), func(i int) []string { return cells[i] }); err != nil {
			return err
		}
	}
	if len(differences) > 0 && len(rows) > 0 {
		out.WriteByte('\n')
	}
	for _, d := range differences {
		mark := "·"
		switch {
		case d.Matters:
			mark = "■"
		case d.Ignored:
			mark = "□"
			d.Text += " (ignored)"
		}
		lines := strings.ReplaceAll(wrap(d.Text, width-2), "\n", "\n  ")
		fmt.Fprintf(out, "%s %s\n", mark, lines)
	}
	return nil
}

// cell is the values of a field below each other; of many, the first.
func cell(values []string, room int) string {
	if len(values) == 0 {
		return "–"
	}
	var lines []string
	for i, v := range values {
		if i == mostNames && len(values) > mostNames+1 {
			lines = append(lines, fmt.Sprintf("and %d more", len(values)-i))
			break
		}
		lines = append(lines, wrap(v, room))
	}
	return strings.Join(lines, "\n")
}
