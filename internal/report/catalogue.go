package report

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"nurvik/core/judge"
)

// Explanation is one entry of the catalogue.
func Explanation(e judge.Entry) Document {
	return Document{Value: e, Text: func(w io.Writer, s Style) error {
		width := min(s.columns(), 100)
		var out strings.Builder
		fmt.Fprintf(&out, "%s  (%s)\n%s\n", e.Code, severities(e), e.Title)
		for _, part := range [][2]string{{"When", e.When}, {"Why it matters", e.Why}, {"What to do", e.Remedy},
			{"Reference", e.Reference}} {
			fmt.Fprintf(&out, "\n%s\n%s\n", part[0], indent(strings.TrimSpace(part[1]), width))
			if part[0] == "What to do" && len(e.Edits) > 0 {
				out.WriteString("\nIn the configuration\n")
				for _, edit := range inOrder(e.Edits) {
					fmt.Fprintf(&out, "  %-10s  %s\n", edit.Server, edit.Text())
				}
			}
		}
		_, err := io.WriteString(w, out.String())
		return err
	}}
}

// inOrder sorts edits by the order in which servers are shown.
func inOrder(edits []judge.Edit) []judge.Edit {
	edits = slices.Clone(edits)
	slices.SortStableFunc(edits, func(a, b judge.Edit) int {
		return slices.Index(judge.Servers, a.Server) - slices.Index(judge.Servers, b.Server)
	})
	return edits
}

// Codes is the list of all codes.
func Codes(entries []judge.Entry) Document {
	return Document{Value: entries, Text: func(w io.Writer, _ Style) error {
		out := NewTable("code", "severity", "title")
		for _, e := range entries {
			out.AppendRow(table.Row{e.Code, severities(e), e.Title})
		}
		_, err := fmt.Fprintln(w, out.Render())
		return err
	}}
}

func severities(e judge.Entry) string {
	var words []string
	for _, s := range e.Severities {
		words = append(words, string(s))
	}
	return strings.Join(words, " or ")
}

// CatalogueMarkdown writes the finding catalogue as a page of the documentation.
func CatalogueMarkdown(w io.Writer, entries []judge.Entry) error {
	var out strings.Builder
	out.WriteString("# Finding catalogue\n\nMade from the catalogue in the code by `make docs`; do not edit.\n\n| " +
		"code | severity | title |\n| --- | --- | --- |\n")
	for _, e := range entries {
		fmt.Fprintf(&out, "| [`%s`](#%s) | %s | %s |\n", e.Code, strings.ReplaceAll(e.Code, ".", ""), severities(e),
			e.Title)
	}
	for _, e := range entries {
		fmt.Fprintf(&out,
			"\n## %s\n\n**%s** (%s)\n\n- When: %s\n- Why it matters: %s\n- What to do: %s\n- Reference: %s\n", e.Code,
			e.Title, severities(e),
			strings.TrimSpace(e.When), strings.TrimSpace(e.Why), strings.TrimSpace(e.Remedy), e.Reference)
		if len(e.Edits) > 0 {
			out.WriteString("\n| server | line | note |\n| --- | --- | --- |\n")
			for _, edit := range inOrder(e.Edits) {
				line := edit.Line
				if line != "" {
					line = "`" + line + "`"
				}
				fmt.Fprintf(&out, "| %s | %s | %s |\n", edit.Server, line, edit.Note)
			}
		}
	}
	_, err := io.WriteString(w, out.String())
	return err
}
