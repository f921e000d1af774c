package report

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"

	"nurvik/core/facts"
	"nurvik/core/words"
	"nurvik/internal/audit"
)

// renewals writes what was learnt for the next renewal of each certificate: a line for a name.
func renewals(w io.Writer, targets []audit.Target, s Style) error {
	out := NewTable("name for renewal", "leads to", "path on port 80", "DNS challenge", "may issue")
	longest, some := 0, false
	for _, t := range targets {
		if e, ok := t.Facts.(facts.Endpoint); ok && e.Renewal != nil {
			for _, n := range e.Renewal.Names {
				longest, some = max(longest, len(n.Name)), true
			}
		}
	}
	if !some {
		return nil
	}
	longest = min(longest, s.columns()*2/5)
	width := max((s.columns()-longest-10)/4, 15)
	for _, t := range targets {
		e, ok := t.Facts.(facts.Endpoint)
		if !ok || e.Renewal == nil {
			continue
		}
		for _, n := range e.Renewal.Names {
			out.AppendRow([]any{wrap(n.Name, longest), wrap(leadsCell(n), width-4), wrap(pathCell(n), width),
				wrap(challengeCell(n.Challenge), width), wrap(issuersCell(n), width+6)})
		}
	}
	_, err := fmt.Fprintln(w, "\n"+out.Render())
	return err
}

func leadsCell(n facts.RenewalName) string {
	var out []string
	for _, l := range n.Lookups {
		text := strings.Join(l.Addresses, ", ")
		switch {
		case l.Failure.Given():
			text = "not learnt"
		case text == "":
			text = "no address"
		}
		if !slices.Contains(out, text) {
			out = append(out, text)
		}
	}
	return cmp.Or(strings.Join(out, "; "), "–")
}

func pathCell(n facts.RenewalName) string {
	var out []string
	for _, p := range n.Pages {
		text := words.Of(p.Failure)
		if text == "" {
			text = fmt.Sprint(p.Status)
			if p.Location != "" {
				text += " to " + p.Location
			}
		}
		if !slices.Contains(out, text) {
			out = append(out, text)
		}
	}
	return cmp.Or(strings.Join(out, "; "), "–")
}

func challengeCell(c *facts.Challenge) string {
	switch {
	case c == nil:
		return "not learnt"
	case c.Nowhere.Given():
		return "leads nowhere"
	case len(c.Tokens) > 0:
		return "an old answer"
	case len(c.LeadsTo) > 0:
		return "at " + c.LeadsTo[len(c.LeadsTo)-1]
	case c.Own:
		return "in a zone of its own"
	}
	return "none there"
}

func issuersCell(n facts.RenewalName) string {
	if n.CAAAt == "" {
		return "any CA"
	}
	var out []string
	for _, r := range n.CAA {
		if tag := strings.ToLower(r.Tag); strings.HasPrefix(tag, "issue") {
			out = append(out, strings.TrimSpace(strings.TrimPrefix(tag, "issue")+" "+r.Value))
		}
	}
	return cmp.Or(strings.Join(out, ", "), "–")
}
