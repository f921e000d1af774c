package report

import (
	"bytes"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"nurvik/core/chain"
	"nurvik/core/trust"
)

// narrow is the width below which the two columns stand above each other.
const narrow = 96

// Chain draws every chain: what was given at the left, what it should be at the
// right, then what each trust store makes of it, and what is wrong.
func Chain(c *Chains) Document {
	d := Document{Value: c, Text: func(w io.Writer, s Style) error { return drawChains(w, c, s.columns(), s) }}
	for _, a := range c.All() {
		d.Rows = append(d.Rows, Row{Target: a.Target, Findings: a.Findings})
	}
	return d
}

func drawChains(w io.Writer, c *Chains, width int, s Style) error {
	var out bytes.Buffer
	for i, a := range c.All() {
		if i > 0 {
			out.WriteString("\n" + strings.Repeat("─", width) + "\n\n")
		}
		d := drawing{out: &out, style: s, width: width, at: c.At}
		d.chain(a)
	}
	for _, line := range unexaminedLines(c.Unexamined) {
		fmt.Fprintln(&out, wrap(line, width))
	}
	fmt.Fprintf(&out, "As of %s.\n", c.At.Format("2006-01-02 15:04:05 MST"))
	_, err := io.WriteString(w, out.String())
	return err
}

// drawing draws one chain.
type drawing struct {
	out   *bytes.Buffer
	style Style
	width int
	at    time.Time
}

func (d *drawing) chain(a *ChainAnswer) {
	title := a.Target
	if len(a.Addresses) > 0 {
		title += "  on " + strings.Join(a.Addresses, ", ")
	}
	fmt.Fprintf(d.out, "%s\n\n", wrap(title, d.width))
	given, right := d.column("AS GIVEN", a.Given, a, false), d.column("AS IT SHOULD BE", a.Right, a, true)
	if d.width < narrow {
		d.out.WriteString(strings.Join(given, "\n") + "\n\n" + strings.Join(right, "\n") + "\n\n")
	} else {
		half := d.width/2 - 1
		for i := range max(len(given), len(right)) {
			left, beside := "", ""
			if i < len(given) {
				left = given[i]
			}
			if i < len(right) {
				beside = right[i]
			}
			d.out.WriteString(strings.TrimRight(text.Pad(left, half, ' ')+"  "+beside, " ") + "\n")
		}
		d.out.WriteByte('\n')
	}
	d.audiences(a)
	d.paths(a)
	d.revocation(a)
	d.findings(a)
}

// placeWords say how a certificate stands; the mark is the first character.
var placeWords = map[chain.Place]string{
	chain.InPlace: "●", chain.OutOfOrder: "◆ out of order", chain.Missing: "+ missing, to be added",
	chain.AnchorSent: "○ a root, need not be sent",
	chain.AnchorHeld: "▲ the root, in the trust store", chain.NotOnPath: "○ not on the path",
}

// column draws one side: three lines a certificate, a line between those that follow each other.
func (d *drawing) column(title string, links []ChainLink, a *ChainAnswer, isRight bool) []string {
	room := d.width
	if d.width >= narrow {
		room = d.width/2 - 1
	}
	out := []string{title}
	number := map[string]int{}
	for i, l := range a.Right {
		number[l.SHA256.String()] = i + 1
	}
	for i, l := range links {
		mark, words, _ := strings.Cut(placeWords[l.Place], " ")
		order := fmt.Sprintf("%d", i+1)
		if l.Place == chain.AnchorHeld {
			order = " "
		}
		if l.Place == chain.OutOfOrder {
			words += fmt.Sprintf(", belongs to place %d", number[l.SHA256.String()])
		}
		if l.Place == chain.NotOnPath && slices.ContainsFunc(a.Paths,
			func(p ChainPath) bool { return slices.Contains(p.Certificates, l.SHA256) }) {
			words = "on another path"
		}
		head := fmt.Sprintf("%s %s  %s", order, mark, clip(l.Label, room-6))
		if d.style.Colour && (l.Place == chain.Missing || l.Place == chain.OutOfOrder) {
			head = text.Colors{text.FgRed}.Sprint(head)
		}
		bar := " "
		if i+1 < len(links) && isRight {
			bar = "│"
		}
		facts := fmt.Sprintf("%s, %s, until %s", l.Role, l.Key, date(l.NotAfter))
		if l.NotAfter.Before(d.at) {
			facts = fmt.Sprintf("%s, %s, expired on %s", l.Role, l.Key, date(l.NotAfter))
		}
		out = append(out, head, "  "+bar+"  "+clip(facts, room-6))
		if words != "" {
			out = append(out, "  "+bar+"  "+clip(words, room-6))
		}
	}
	if len(links) == 0 {
		out = append(out, "    nothing")
	}
	return out
}

// clip shortens what does not fit, with an ellipsis.
func clip(s string, width int) string { return text.Snip(s, max(width, 10), "…") }

func (d *drawing) audiences(a *ChainAnswer) {
	if len(a.Audiences) == 0 {
		return
	}
	out := NewTable("trust store", "must accept", "trusted", "until, or why not")
	rest := max(d.width-50, 30)
	for _, s := range a.Audiences {
		required, yes, words := "one of these", "no", capitalised(s.Reason)
		if s.Required {
			required = "yes"
		}
		if s.Trusted {
			yes, words = "yes", ""
			if s.Until != nil {
				words = s.Until.Format("2006-01-02 15:04 MST")
			}
		}
		if d.style.Colour && !s.Trusted {
			yes = text.Colors{text.FgRed, text.Bold}.Sprint(yes)
		}
		if s.GaveUp {
			words = strings.TrimSpace(words + " (the search was given up)")
		}
		out.AppendRow(table.Row{wrap(s.Store, 24), required, yes, wrap(words, rest)})
	}
	d.out.WriteString(out.Render() + "\n\n")
}

func capitalised(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

func (d *drawing) paths(a *ChainAnswer) {
	if len(a.Paths) == 0 {
		return
	}
	d.out.WriteString("PATHS\n")
	for _, p := range a.Paths {
		mark, words := "✓", "valid"
		if !p.Valid {
			mark, words = "✗", p.Reason
		}
		if p.Anchor == trust.Rehearsal {
			words += ", to an anchor for rehearsal"
		}
		if p.Borrowed > 0 && p.Valid {
			words = "valid, with what was not given"
		}
		if p.Ends != nil && p.Valid {
			words += fmt.Sprintf(", until %s, when %s expires", p.Ends.Format("2006-01-02"), p.EndsWith)
		}
		lines := wrap(fmt.Sprintf("%s: %s", p.Store, strings.TrimSuffix(words, ".")), d.width-4)
		route := wrap(strings.Join(p.Labels, " ← "), d.width-6)
		fmt.Fprintf(d.out, "  %s %s\n      %s\n", mark, strings.ReplaceAll(lines, "\n", "\n    "),
			strings.ReplaceAll(route, "\n", "\n      "))
	}
	for _, s := range a.Audiences {
		if s.More > 0 {
			fmt.Fprintf(d.out, "    %s: %d more\n", s.Store, s.More)
		}
	}
	d.out.WriteByte('\n')
}

func (d *drawing) revocation(a *ChainAnswer) {
	if len(a.Revocation) == 0 {
		return
	}
	d.out.WriteString("REVOCATION\n")
	var rows [][2]string
	for _, r := range a.Revocation {
		rows = append(rows, [2]string{clip(r.Label, 40), r.Words})
	}
	writeRows(d.out, rows, d.width)
}

func (d *drawing) findings(a *ChainAnswer) {
	if len(a.Findings) == 0 {
		return
	}
	d.out.WriteString("FINDINGS\n")
	for line := range strings.SplitSeq(findingsCell(a.Findings, d.width-2, d.style), "\n") {
		d.out.WriteString("  " + line + "\n")
	}
	d.out.WriteByte('\n')
}
