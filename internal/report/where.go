package report

import (
	"fmt"
	"io"
	"strings"
	"time"

	"nurvik/internal/api"
	"nurvik/internal/audit"
)

// whereResult is the JSON of "nurvik where".
type whereResult struct {
	api.Where
	Unexamined []audit.Unexamined `json:"unexamined"`
}

// Where writes every place of what was looked for.
func Where(found api.Where, unexamined []audit.Unexamined) Document {
	if unexamined == nil {
		unexamined = []audit.Unexamined{}
	}
	return Document{Value: whereResult{found, unexamined}, Text: func(w io.Writer, s Style) error {
		if err := wherePlaces(w, found, s); err != nil {
			return err
		}
		for _, more := range []struct {
			title string
			list  []api.WhereOther
		}{{"Other certificates on the same key", found.SameKey}, {"Before it, for the same names", found.Before},
			{"After it, for the same names", found.After}} {
			if len(more.list) == 0 {
				continue
			}
			fmt.Fprintf(w, "\n%s:\n", more.title)
			for _, c := range more.list {
				fmt.Fprintf(w, "  %s  serial %s  %s  %s\n", c.Label, c.Serial, between(c.NotBefore, c.NotAfter),
					strings.Join(c.Places[:min(len(c.Places), 3)], ", "))
			}
		}
		for _, line := range unexaminedLines(unexamined) {
			fmt.Fprintln(w, wrap(line, s.columns()))
		}
		return nil
	}}
}

func wherePlaces(w io.Writer, found api.Where, s Style) error {
	if len(found.Places) == 0 {
		_, err := fmt.Fprintf(w, "%s is nowhere.\n", found.What)
		return err
	}
	width := max((s.columns()-30)/3, 24)
	out := NewTable("place", "what", "found by", "valid", "seen")
	for _, p := range found.Places {
		seen := "now"
		if !p.Now && p.Until != nil {
			seen = "until " + p.Until.Format(time.DateOnly)
		}
		out.AppendRow([]any{wrap(whereName(p), width), wrap(p.Label, width), p.By, between(p.NotBefore, p.NotAfter),
			seen})
	}
	lines := out.Render()
	if found.More > 0 {
		lines += fmt.Sprintf("\nand %d more", found.More)
	}
	_, err := fmt.Fprintln(w, lines)
	return err
}

// whereName is a place as people write it.
func whereName(p api.WherePlace) string {
	name := p.Name
	if p.Holding != "" {
		name = p.Holding + ":" + name
	}
	switch {
	case p.Alias != "":
		name += " (" + p.Alias + ")"
	case p.Line > 0:
		name = fmt.Sprintf("%s:%d", name, p.Line)
	case p.Address != "":
		name += " at " + p.Address
	}
	return name
}

func between(from, until *time.Time) string {
	if from == nil || until == nil {
		return ""
	}
	return from.UTC().Format(time.DateOnly) + " to " + until.UTC().Format(time.DateOnly)
}
