// Package report writes results for people and for programs.
package report

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/internal/audit"
)

// Style says how a table is drawn.
type Style struct {
	Width    int  // columns of the terminal; 0 for 120
	Colour   bool // colours only repeat what words and marks say
	Terminal bool // a person reads it there
}

// columns is the width to write for.
func (s Style) columns() int {
	if s.Width <= 0 {
		return 120
	}
	return s.Width
}

// Marks give each verdict a shape beside its word.
var marks = map[judge.Verdict]string{judge.Sound: "·", judge.AtRisk: "◆", judge.Faulty: "■", judge.Unreachable: "○"}

var verdictColours = map[judge.Verdict]text.Colors{
	judge.Faulty: {text.FgRed, text.Bold}, judge.AtRisk: {text.FgMagenta}, judge.Unreachable: {text.FgCyan},
	judge.Sound: {text.FgGreen},
}

// VerdictWord is the verdict with its mark, for a table cell.
func VerdictWord(v judge.Verdict, s Style) string {
	if v == "" {
		return "– not yet judged"
	}
	word := marks[v] + " " + string(v)
	if s.Colour {
		return verdictColours[v].Sprint(word)
	}
	return word
}

// auditHead is what stands beside the lists of a report.
type auditHead struct {
	Schema  string        `json:"schema"`
	At      time.Time     `json:"at"`
	Policy  string        `json:"policy"`
	NoRoute []string      `json:"no_route,omitempty"`
	Linked  []string      `json:"linked,omitempty"`
	Summary audit.Summary `json:"summary"`

	Deployments []judge.Deployment `json:"deployments,omitempty"`
}

// Audit is the report of an audit: the worst first, sound targets in one line
// each. What was learnt on the wire is shown where one endpoint was asked about,
// or of all with long.
func Audit(r *audit.Report, long bool) Document {
	head := auditHead{r.Schema, r.At, r.Policy, r.NoRoute, r.Linked, r.Summary, r.Deployments}
	d := Document{Value: head, Lists: []List{
		{"targets", len(r.Targets), func(i int) any { return r.Targets[i] }},
		{"unexamined", len(r.Unexamined), func(i int) any { return r.Unexamined[i] }},
	}}
	for _, t := range r.Targets {
		d.Rows = append(d.Rows, Row{t.Target, t.Verdict, t.Findings})
	}
	d.Text = func(w io.Writer, s Style) error {
		if err := targets(w, d.Rows, s); err != nil {
			return err
		}
		if err := errors.Join(deployments(w, r.Deployments, s), renewals(w, r.Targets, s)); err != nil {
			return err
		}
		if err := footer(w, r, s.columns()); err != nil || len(r.Targets) != 1 && !long {
			return err
		}
		if err := linkedLines(w, r.Linked, s.columns()); long && err != nil {
			return err
		}
		for _, t := range r.Targets {
			if e, ok := t.Facts.(facts.Endpoint); ok {
				if err := wire(w, e, t.Shown, long, s); err != nil {
					return err
				}
			}
		}
		return nil
	}
	return d
}

// targets writes the table of what is wrong with each.
func targets(w io.Writer, list []Row, s Style) error {
	if len(list) == 0 {
		return nil
	}
	width := s.columns()
	list = slices.Clone(list)
	slices.SortStableFunc(list, func(a, b Row) int {
		return slices.Index(judge.Verdicts, a.Verdict) - slices.Index(judge.Verdicts, b.Verdict)
	})
	out := newListing("verdict", "target", "what is wrong, and what to do")
	longest := len("TARGET")
	for _, t := range list {
		longest = max(longest, len(t.Target))
		out.measure(VerdictWord(t.Verdict, s))
	}
	longest = min(longest, width*2/5)
	rest := max(width-longest-20, 30)
	cell := func(i int) string { return findingsCell(list[i].Findings, rest, s) }
	if len(list) <= blockSize { // of more, how wide the last column will be is only estimated
		cells := make([]string, len(list))
		for i := range list {
			cells[i] = cell(i)
			out.measure("", "", cells[i])
		}
		cell = func(i int) string { return cells[i] }
	} else {
		out.widths[2] = rest
	}
	for _, t := range list {
		out.measure("", wrap(t.Target, longest))
	}
	return out.write(w, len(list), func(i int) []string {
		return []string{VerdictWord(list[i].Verdict, s), wrap(list[i].Target, longest), cell(i)}
	})
}

// NewTable is the one look of all tables: no frame, a line under the header.
func NewTable(header ...string) table.Writer {
	out := table.NewWriter()
	row := table.Row{}
	for _, h := range header {
		row = append(row, strings.ToUpper(h))
	}
	out.AppendHeader(row)
	style := table.StyleLight
	style.Options = table.Options{SeparateHeader: true}
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	out.SetStyle(style)
	out.SuppressTrailingSpaces()
	return out
}

func findingsCell(findings []judge.Finding, width int, s Style) string {
	var lines []string
	for i, f := range findings {
		head := fmt.Sprintf("%s  %s", f.Code, severityWord(f, s))
		if f.Evidence.File != "" {
			head += "\n" + indent(lineOf(f.Evidence.File, f.Evidence.Line), width)
		}
		lines = append(lines, head, indent(f.Message+where(f), width))
		if f.Waived != nil {
			lines = append(lines, indent(fmt.Sprintf("Waived until %s: %s", f.Waived.Until, f.Waived.Reason), width))
			continue
		}
		lines = append(lines, indent("Do: "+f.Remedy, width))
		if i+1 < len(findings) && slices.Equal(f.Edits, findings[i+1].Edits) {
			continue // they come below the last that they repair
		}
		for _, e := range f.Edits {
			lines = append(lines, editLines(e, width)...)
		}
	}
	return strings.Join(lines, "\n")
}

// lineOf is a line of a file, as people write it.
func lineOf(file string, line int) string {
	if line == 0 {
		return file
	}
	return fmt.Sprintf("%s:%d", file, line)
}

// editLines are an edit: the change of the very file as it is, never wrapped, or the line to write.
func editLines(e judge.Edit, width int) []string {
	if e.Diff == "" {
		return []string{indent(e.Server+": "+e.Text(), width)}
	}
	var lines []string
	for line := range strings.Lines(e.Diff) {
		lines = append(lines, "    "+strings.TrimRight(line, "\n"))
	}
	return lines
}

func severityWord(f judge.Finding, s Style) string {
	word := map[judge.Severity]string{judge.Fault: "fault", judge.Risk: "risk", judge.Note: "note"}[f.Severity]
	if s.Colour && f.Severity == judge.Fault {
		return text.Colors{text.FgRed}.Sprint(word)
	}
	return word
}

// where names the addresses when the finding does not hold everywhere by itself.
func where(f judge.Finding) string {
	if len(f.Addresses) < 2 {
		return ""
	}
	return " (on " + strings.Join(f.Addresses, ", ") + ")"
}

func indent(line string, width int) string {
	return "  " + strings.ReplaceAll(wrap(line, width-2), "\n", "\n  ")
}

func footer(w io.Writer, r *audit.Report, width int) error {
	lines := unexaminedLines(r.Unexamined)
	if len(r.NoRoute) > 0 {
		lines = append(lines, fmt.Sprintf("not visited, because their address family has no route from here: %s",
			strings.Join(r.NoRoute, ", ")))
	}
	n := r.Summary
	lines = append(lines,
		fmt.Sprintf("%d judged: %d faulty, %d at risk, %d unreachable, %d sound; as of %s, policy %s.",
			len(r.Targets), n.Faulty, n.AtRisk, n.Unreachable, n.Sound, r.At.Format("2006-01-02 15:04:05 MST"),
			r.Policy))
	if n.Faulty+n.AtRisk > 0 {
		lines = append(lines, `More about a code: "nurvik explain CODE".`)
	}
	for i, line := range lines {
		lines[i] = wrap(line, width)
	}
	_, err := fmt.Fprintln(w, "\n"+strings.Join(lines, "\n"))
	return err
}
