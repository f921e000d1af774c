package report

import (
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"nurvik/core/judge"
)

// Explanation writes one entry of the catalogue.
func Explanation(w io.Writer, e judge.Entry, s Style) error {
	width := s.Width
	if width <= 0 || width > 100 {
		width = 100
	}
	var out strings.Builder
	fmt.Fprintf(&out, "%s  (%s)\n%s\n", e.Code, severities(e), e.Title)
	for _, part := range [][2]string{{"When", e.When}, {"Why it matters", e.Why}, {"What to do", e.Remedy}, {"Reference", e.Reference}} {
		fmt.Fprintf(&out, "\n%s\n%s\n", part[0], indent(strings.TrimSpace(part[1]), width))
		if lines := e.Lines(judge.Servers); part[0] == "What to do" && len(lines) > 0 {
			out.WriteString("\nIn the configuration\n")
			for _, s := range lines {
				fmt.Fprintf(&out, "  %-10s  %s\n", s.Server, s.Line)
			}
		}
	}
	_, err := io.WriteString(w, out.String())
	return err
}

// Codes writes the list of all codes.
func Codes(w io.Writer, entries []judge.Entry) error {
	out := NewTable("code", "severity", "title")
	for _, e := range entries {
		out.AppendRow(table.Row{e.Code, severities(e), e.Title})
	}
	_, err := fmt.Fprintln(w, out.Render())
	return err
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
	out.WriteString("# Finding catalogue\n\nMade from the catalogue in the code by `make docs`; do not edit.\n\n| code | severity | title |\n| --- | --- | --- |\n")
	for _, e := range entries {
		fmt.Fprintf(&out, "| [`%s`](#%s) | %s | %s |\n", e.Code, strings.ReplaceAll(e.Code, ".", ""), severities(e), e.Title)
	}
	for _, e := range entries {
		fmt.Fprintf(&out, "\n## %s\n\n**%s** (%s)\n\n- When: %s\n- Why it matters: %s\n- What to do: %s\n- Reference: %s\n", e.Code, e.Title, severities(e),
			strings.TrimSpace(e.When), strings.TrimSpace(e.Why), strings.TrimSpace(e.Remedy), e.Reference)
		if lines := e.Lines(judge.Servers); len(lines) > 0 {
			out.WriteString("\n| server | line |\n| --- | --- |\n")
			for _, s := range lines {
				fmt.Fprintf(&out, "| %s | `%s` |\n", s.Server, s.Line)
			}
		}
	}
	_, err := io.WriteString(w, out.String())
	return err
}
