package report

import (
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"nurvik/core/judge"
	"nurvik/internal/api"
)

// WhatIf is a what-if with every endpoint that would change.
func WhatIf(v api.WhatIfView) Document {
	d := Document{Value: v}
	for _, c := range v.Changes {
		d.Rows = append(d.Rows, Row{c.Endpoint, c.Verdict, c.Appear})
	}
	d.Text = func(w io.Writer, s Style) error {
		if len(v.Changes) > 0 {
			if _, err := fmt.Fprintln(w, changes(v, s)); err != nil {
				return err
			}
		}
		lines := []string{}
		if v.Answer != nil {
			n, was := v.Answer.Verdicts, v.Answer.Record
			lines = append(lines, fmt.Sprintf("%s would appear and %d would go, at %d of %s.",
				Plural(v.Answer.Appear, "finding"), v.Answer.Go, len(v.Changes),
				Plural(v.Answer.Endpoints, "endpoint")),
				fmt.Sprintf("Verdicts: %d faulty (now %d), %d at risk (now %d), %d unreachable (now %d), %d sound "+
					"(now %d).",
					n.Faulty, was.Faulty, n.AtRisk, was.AtRisk, n.Unreachable, was.Unreachable, n.Sound, was.Sound))
			if v.Answer.Unseen > 0 {
				lines = append(lines, fmt.Sprintf("Not judged, because never visited: %s. Run \"nurvik run\" first.",
					Plural(v.Answer.Unseen, "endpoint")))
			}
		}
		lines = append(lines, fmt.Sprintf("What-if %d: %s. The record is as it was.", v.ID, Asked(v.WhatIf)))
		for i := range lines {
			lines[i] = wrap(lines[i], s.columns())
		}
		_, err := fmt.Fprintln(w, strings.Join(lines, "\n"))
		return err
	}
	return d
}

// Asked is the question in words.
func Asked(w api.WhatIf) string {
	parts := []string{"as of " + w.At.UTC().Format("2006-01-02 15:04 MST")}
	if w.Policy != "" {
		parts = append(parts, "by the policy "+w.Policy)
	}
	for _, d := range w.Distrust {
		parts = append(parts, "without "+d[:12])
	}
	if w.Selected > 0 {
		parts = append(parts, "of "+Plural(w.Selected, "endpoint"))
	}
	return strings.Join(parts, ", ")
}

func changes(v api.WhatIfView, s Style) string {
	width, longest := s.columns(), 8
	for _, c := range v.Changes {
		longest = max(longest, len(c.Endpoint))
	}
	longest = min(longest, width/3)
	rest := max(width-longest-34, 30)
	out := NewTable("now", "would be", "endpoint", "what would appear (+) and go (-)")
	for _, c := range v.Changes {
		var lines []string
		for _, f := range c.Appear {
			head := fmt.Sprintf("+ %s  %s", f.Code, severityWord(f, s))
			if now := counterpart(f, c.Go); now != nil {
				head += ", now " + string(now.Severity)
			}
			if f.Waived != nil {
				head += "  waived until " + f.Waived.Until
			}
			lines = append(lines, head, indent(f.Message, rest))
		}
		for _, f := range c.Go {
			if counterpart(f, c.Appear) != nil {
				continue // told above
			}
			lines = append(lines, fmt.Sprintf("- %s  %s", f.Code, severityWord(f, s)), indent(f.Message, rest))
		}
		out.AppendRow(table.Row{VerdictWord(c.Record, s), VerdictWord(c.Verdict, s), wrap(c.Endpoint, longest),
			strings.Join(lines, "\n")})
	}
	return out.Render() + "\n"
}

// counterpart is the finding of the same thing on the other side, which weighs
// or counts otherwise there; nil where there is none.
func counterpart(f judge.Finding, others []judge.Finding) *judge.Finding {
	for i := range others {
		if others[i].Code == f.Code && others[i].Subject == f.Subject {
			return &others[i]
		}
	}
	return nil
}

// WhatIfList writes one line a what-if.
func WhatIfList(w io.Writer, list []api.WhatIf) error {
	if len(list) == 0 {
		_, err := fmt.Fprintln(w, "no what-ifs; ask one with \"nurvik what-if --at +90d\"")
		return err
	}
	out := NewTable("number", "asked", "question", "would appear", "would go", "worst")
	for _, x := range list {
		row := table.Row{x.ID, x.CreatedAt.Local().Format("2006-01-02 15:04"), Asked(x), x.State, "", ""}
		if x.Answer != nil {
			row[3], row[4], row[5] = x.Answer.Appear, x.Answer.Go, orDash(x.Answer.Worst)
		}
		out.AppendRow(row)
	}
	_, err := fmt.Fprintln(w, out.Render())
	return err
}

func orDash(s judge.Severity) string {
	if s == "" {
		return "–"
	}
	return string(s)
}
