package report

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"time"

	"nurvik/core/facts"
	"nurvik/core/naming"
	"nurvik/internal/audit"
)

// CoverSchema names the form of the JSON of "nurvik cover".
const CoverSchema = "nurvik.cover/1"

// coverHead is what stands beside the lists of a coverage.
type coverHead struct {
	Schema   string          `json:"schema"`
	Covered  bool            `json:"covered"`
	Proposal naming.Proposal `json:"proposal"`
}

// mostColumns is up to how many certificates a table has a column for each.
const mostColumns = 5

// Cover is needed names against certificates. It compares names alone: that a
// certificate is trusted it does not say, and of one that is out of date only that.
func Cover(m *naming.Matrix, unexamined []audit.Unexamined, at time.Time) Document {
	if unexamined == nil {
		unexamined = []audit.Unexamined{}
	}
	return Document{Value: coverHead{CoverSchema, m.Covers(), m.Proposal}, Lists: []List{
		{"needed", len(m.Needed), func(i int) any { return &m.Needed[i] }},
		{"certificates", len(m.Certificates), func(i int) any { return &m.Certificates[i] }},
		{"unexamined", len(unexamined), func(i int) any { return unexamined[i] }},
	}, Text: func(w io.Writer, s Style) error {
		if err := coverTable(w, m, at, s); err != nil {
			return err
		}
		if err := coverNotes(w, m, s.columns()); err != nil {
			return err
		}
		return coverFooter(w, m, unexamined, s.columns())
	}}
}

// coverTable has a row for each name; of many certificates one cell says which.
func coverTable(w io.Writer, m *naming.Matrix, at time.Time, s Style) error {
	header := []string{"needed name"}
	wide := len(m.Certificates) > mostColumns || len(m.Certificates) == 0
	if wide {
		header = append(header, "covered by")
	}
	for i := range m.Certificates {
		if !wide {
			header = append(header, fmt.Sprintf("in [%d]", i+1))
		}
	}
	out := newListing(header...)
	row := func(n *naming.Need) []string {
		cells := []string{n.Name}
		if wide {
			var by []string
			for _, c := range n.Covered {
				by = append(by, fmt.Sprintf("[%d] %s", c.Certificate+1, c.Entry))
			}
			if len(by) == 0 {
				return append(cells, "■ nobody")
			}
			return append(cells, few(by, mostNames))
		}
		entries := map[int]string{}
		for _, c := range n.Covered {
			entries[c.Certificate] = "· " + c.Entry
		}
		for i := range m.Certificates {
			entry := entries[i]
			if entry == "" {
				entry = "■ no"
			}
			cells = append(cells, entry)
		}
		return cells
	}
	for i := range m.Needed {
		out.measure(row(&m.Needed[i])...)
	}
	if err := out.write(w, len(m.Needed), func(i int) []string { return row(&m.Needed[i]) }); err != nil {
		return err
	}
	var legend bytes.Buffer
	legend.WriteByte('\n')
	for i, c := range m.Certificates {
		if wide && len(m.Certificates) > mostValues && i >= mostValues {
			fmt.Fprintf(&legend, "and %d more certificates\n", len(m.Certificates)-i)
			break
		}
		line := fmt.Sprintf("[%d] %s  %s, %s", i+1, c.Target, c.Label,
			span(facts.Certificate, c.NotBefore, c.NotAfter, at))
		legend.WriteString(wrap(line, s.columns()) + "\n")
	}
	_, err := w.Write(legend.Bytes())
	return err
}

// coverNotes say why not, what nobody needs, and what is remarkable.
func coverNotes(w io.Writer, m *naming.Matrix, width int) error {
	var out bytes.Buffer
	var rows [][2]string
	section := func(title string) {
		if len(rows) > 0 {
			out.WriteString("\n" + title + "\n\n")
			writeRows(&out, rows, width)
			out.Truncate(out.Len() - 1)
		}
		rows = nil
	}
	for _, n := range m.Needed {
		if len(n.Covered) > 0 {
			continue
		}
		best := naming.Cell{Reason: "there is no certificate"}
		for _, c := range n.Missed { // those with an entry that comes near say more
			if best.Entry == "" {
				best = c
			}
		}
		text := best.Reason + "."
		if best.Entry != "" {
			text = fmt.Sprintf("%s in [%d]: %s.", best.Entry, best.Certificate+1, best.Reason)
		}
		if n.Outside == "" { // of others more is said below
			text += " " + best.Remedy
		}
		rows = append(rows, [2]string{n.Name, text})
	}
	section("NOT COVERED, AND THE NEAREST ENTRY")
	for i, c := range m.Certificates {
		if len(c.Unneeded) > 0 {
			rows = append(rows, [2]string{fmt.Sprintf("[%d]", i+1), few(c.Unneeded, mostNames)})
		}
	}
	section("ENTRIES THAT COVER NONE OF THE NEEDED NAMES")
	for i, c := range m.Certificates {
		for _, r := range c.Remarks[:min(len(c.Remarks), mostNames)] {
			rows = append(rows, [2]string{fmt.Sprintf("[%d]", i+1), r.Entry + ": " + r.Reason})
		}
	}
	section("REMARKABLE ENTRIES")
	for _, n := range m.Needed {
		if n.Outside != "" {
			rows = append(rows, [2]string{n.Name, n.Outside + ", so no public CA gives a certificate for it"})
		}
	}
	section("NOT REACHABLE FROM OUTSIDE")
	rows = append(rows, [2]string{Plural(len(m.Proposal.Plain), "entry"), few(m.Proposal.Plain, mostValues)})
	if len(m.Proposal.Wildcards) < len(m.Proposal.Plain) {
		rows = append(rows, [2]string{Plural(len(m.Proposal.Wildcards), "entry") + " with wildcards",
			few(m.Proposal.Wildcards, mostValues)})
	}
	section("THE FEWEST ENTRIES THAT COVER EVERYTHING")
	_, err := w.Write(out.Bytes())
	return err
}

func coverFooter(w io.Writer, m *naming.Matrix, unexamined []audit.Unexamined, width int) error {
	lines := unexaminedLines(unexamined)
	covered := 0
	for _, n := range m.Needed {
		if len(n.Covered) > 0 {
			covered++
		}
	}
	lines = append(lines, fmt.Sprintf("%d of %s covered, by %s.", covered, Plural(len(m.Needed), "name"),
		Plural(len(m.Certificates), "certificate")))
	for i, line := range lines {
		lines[i] = wrap(line, width)
	}
	_, err := fmt.Fprintln(w, "\n"+strings.Join(lines, "\n"))
	return err
}
