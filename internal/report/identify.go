package report

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"

	"nurvik/core/facts"
	"nurvik/core/inventory"
	"nurvik/core/pki"
	"nurvik/core/words"
	"nurvik/internal/audit"
)

// Identify is what was read: one line a thing, or with long every field.
func Identify(v Inventory, long bool, at time.Time) Document {
	return Document{Value: inventoryHead{v.Schema, v.Linked}, Lists: []List{
		{"files", v.size(), func(i int) any { return v.file(i) }},
		{"unexamined", len(v.Unexamined), func(i int) any { return v.Unexamined[i] }},
	}, Text: func(w io.Writer, s Style) error {
		if long {
			return identifyLong(w, &v, s)
		}
		return identify(w, &v, at, s)
	}}
}

// identify writes one line a thing, and what is wrong with the form of each file.
// Where the width is known, the lines fit into it; otherwise nothing is cut.
func identify(w io.Writer, v *Inventory, at time.Time, s Style) error {
	sums := summary{kinds: map[string]int{}}
	out := newListing("where", "what", "whose", "valid", "key", "issued by", "sha-256")
	row := func(f *InventoryFile, e *inventory.Entry) []string {
		return []string{place(f.Path, *e, s.Width > 0), e.What, whose(*e), span(e.Kind, e.NotBefore, e.NotAfter, at),
			e.Key, e.Issuer, digest(*e)}
	}
	var mutex sync.Mutex
	partly(v.size(), func(from, to int) {
		own, wide := summary{kinds: map[string]int{}, from: from}, newListing(out.header...)
		for i := from; i < to; i++ {
			f := v.file(i)
			own.add(&f)
			for n := range f.Entries {
				wide.measure(row(&f, &f.Entries[n])...)
			}
		}
		mutex.Lock()
		defer mutex.Unlock()
		sums.join(own)
		for c := range out.widths {
			out.widths[c] = max(out.widths[c], wide.widths[c])
		}
	})
	if sums.things > 0 {
		keep := len(out.widths)
		if s.Width > 0 {
			keep = fit(out.widths, s.Width)
		}
		out.header, out.widths = out.header[:keep], out.widths[:keep]
		if err := out.writeSeveral(w, v.size(), func(i int, each func([]string)) {
			f := v.file(i)
			for n := range f.Entries {
				cells := row(&f, &f.Entries[n])[:keep]
				if s.Width > 0 {
					cut(cells, out.widths)
				}
				each(cells)
			}
		}); err != nil {
			return err
		}
	}
	return inventoryFooter(w, &sums, v, s)
}

// place is the path, with line or alias.
func place(path string, e inventory.Entry, short bool) string {
	if e.Line > 0 {
		path = fmt.Sprintf("%s:%d", path, e.Line)
	}
	if short && len(e.Alias) > 24 { // some stores give digests for names
		e.Alias = shorten(e.Alias, 13, false)
	}
	if where := e.Where(); where != "" {
		path += " " + where
	}
	return path
}

// whose is the label, the other names, and what has to be known beside.
func whose(e inventory.Entry) string {
	out := e.Label
	others := slices.DeleteFunc(slices.Clone(e.Names), func(n string) bool { return n == e.Label })
	if len(others) > 0 {
		out += " (" + few(others, mostNames) + ")"
	}
	if len(e.Remarks) > 0 {
		out += " [" + strings.Join(e.Remarks, "; ") + "]"
	}
	return strings.TrimSpace(out)
}

// mostNames and mostValues are how much of a list a table shows: in a cell, and
// of a field with --long. JSON has all of it.
const mostNames, mostValues = 6, 100

// few writes the first of a list, and how many more there are.
func few(list []string, most int) string {
	if len(list) <= most {
		return strings.Join(list, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(list[:most], ", "), len(list)-most)
}

// span writes from when until when, and what is not so now. A CRL may have no
// end; of anything else one that is missing could not be read.
func span(kind facts.ItemKind, from, until, at time.Time) string {
	switch {
	case kind == facts.RevocationList && until.IsZero():
		return date(from)
	case kind != facts.RevocationList && kind != facts.Certificate:
		return ""
	}
	out := date(from) + " to " + date(until)
	switch {
	case at.After(until): // and so too where the end cannot be read
		out += ", expired"
	case at.Before(from):
		out += ", not yet"
	}
	return out
}

// date writes a day, "?" for one that could not be read.
func date(t time.Time) string {
	if t.IsZero() {
		return "?"
	}
	return t.UTC().Format(time.DateOnly)
}

// digest is the fingerprint; of private keys that of the public half.
func digest(e inventory.Entry) string {
	switch {
	case !e.SHA256.IsZero():
		return e.SHA256.String()
	case !e.SPKI.IsZero():
		return "key " + e.SPKI.String()
	}
	return ""
}

// The columns that can be shortened, and the least that is left of them.
const (
	columnWhere, columnWhose, columnIssuer, columnDigest = 0, 2, 5, 6
	leastText, leastIssuer, leastDigest                  = 19, 12, 13
)

// fit narrows columns until the rows have the width: the fingerprint first, then
// the issuer, then place and names by turns, the wider one first. Where that is
// not enough, fingerprint and issuer are left out: keep is how many columns stay.
func fit(widths []int, width int) (keep int) {
	total := 0
	for _, w := range widths {
		total += w + len(gap)
	}
	narrow := func(column, least int) {
		if gain := min(total-width, widths[column]-least); gain > 0 {
			widths[column] -= gain
			total -= gain
		}
	}
	narrow(columnDigest, leastDigest)
	narrow(columnIssuer, leastIssuer)
	narrow(columnWhere, max(widths[columnWhose], leastText))
	narrow(columnWhose, max(widths[columnWhere], leastText))
	for total > width && widths[columnWhere]+widths[columnWhose] > 2*leastText {
		widths[columnWhere]--
		widths[columnWhose]--
		total -= 2
	}
	keep = len(widths)
	for total > width && keep > columnIssuer {
		keep--
		total -= widths[keep] + len(gap)
	}
	return keep
}

// cut shortens the cells of a row that may be shortened to their columns.
func cut(cells []string, widths []int) {
	for _, c := range []int{columnWhere, columnWhose, columnIssuer, columnDigest} {
		if c < len(cells) {
			cells[c] = shorten(cells[c], widths[c], c == columnWhere)
		}
	}
}

// shorten cuts at the end, or at the start where the end tells more.
func shorten(cell string, width int, keepEnd bool) string {
	if text.StringWidthWithoutEscSequences(cell) <= width {
		return cell
	}
	if !keepEnd {
		return text.Trim(cell, width-1) + "…"
	}
	runes := []rune(cell)
	for len(runes) > 0 && text.StringWidthWithoutEscSequences(string(runes)) > width-1 {
		runes = runes[1:]
	}
	return "…" + string(runes)
}

// identifyLong writes every field of every thing, and every defect.
func identifyLong(w io.Writer, v *Inventory, s Style) error {
	width := s.Width
	if width <= 0 {
		width = 120
	}
	sums := summary{kinds: map[string]int{}, told: true}
	for i := range v.size() {
		var out strings.Builder
		f := v.file(i)
		sums.add(&f)
		for _, e := range f.Entries {
			fmt.Fprintf(&out, "%s  %s\n", place(f.Path, e, false), strings.TrimSpace(e.What+" "+e.Label))
			form := cmp.Or(e.Form, e.Container)
			if e.Label != "" && e.PEMLabel != "" {
				form += ", " + e.PEMLabel
			}
			writeField(&out, inventory.Field{Name: "written as",
				Values: []string{fmt.Sprintf("%s, from byte %d", form, e.Place.Offset)}}, width)
			for _, x := range e.Fields {
				writeField(&out, x, width)
			}
			for _, a := range e.Anomalies {
				writeField(&out, inventory.Field{Name: "anomaly",
					Values: []string{fmt.Sprintf("at byte %d, %s: %s (%s)", a.Offset, a.Field, pki.Printable(a.Text),
						a.Source)}}, width)
			}
			for _, r := range e.Remarks {
				writeField(&out, inventory.Field{Name: "remark", Values: []string{r}}, width)
			}
			out.WriteByte('\n')
		}
		if a := f.Access; a != nil && len(f.Entries) > 0 {
			fmt.Fprintf(&out, "%s  on disk\n", f.Path)
			writeField(&out, inventory.Field{Name: "mode",
				Values: []string{fmt.Sprintf("%04o, owner %s, group %s", a.Mode, a.Owner, a.Group)}}, width)
			for _, link := range a.Links {
				writeField(&out, inventory.Field{Name: "link", Values: []string{link}}, width)
			}
			out.WriteByte('\n')
		}
		for _, d := range f.Defects {
			out.WriteString(wrap(defectLine(f.Path, d), width) + "\n\n")
		}
		if _, err := io.WriteString(w, out.String()); err != nil {
			return err
		}
	}
	if err := linkedLines(w, v.Linked, width); err != nil {
		return err
	}
	return inventoryFooter(w, &sums, v, s)
}

// linkedLines tells of the directories that were not entered.
func linkedLines(w io.Writer, linked []string, width int) error {
	for _, l := range linked {
		if _, err := fmt.Fprintln(w, wrap("linked directory, not entered: "+l, width)); err != nil {
			return err
		}
	}
	return nil
}

// writeField writes a name and its values below each other.
func writeField(out *strings.Builder, f inventory.Field, width int) {
	name := f.Name
	if f.Offset > 0 {
		name += fmt.Sprintf(" [byte %d]", f.Offset)
	}
	const column = 30
	lead := "  " + name
	if len(lead) > column-2 || len(f.Values) > 1 {
		out.WriteString(lead + "\n")
		lead = ""
	}
	values := f.Values
	if more := len(values) - mostValues; more > 0 {
		values = append(slices.Clone(values[:mostValues]), fmt.Sprintf("and %d more", more))
	}
	for _, value := range values {
		for line := range strings.SplitSeq(text.WrapText(value, max(width-column, 40)), "\n") {
			fmt.Fprintf(out, "%-*s%s\n", column, lead, strings.TrimRight(line, " "))
			lead = ""
		}
	}
}

var grammarWords = map[facts.Grammar]string{
	facts.Standard: "allowed by RFC 7468", facts.Lax: "allowed only by the lax grammar of RFC 7468",
	facts.Outside: "not allowed by RFC 7468",
}

func defectLine(path string, d facts.Defect) string {
	line := path
	switch {
	case d.Line > 0:
		line += fmt.Sprintf(":%d (byte %d)", d.Line, d.Offset)
	case d.Kind != facts.TooLarge:
		line += fmt.Sprintf(" (byte %d)", d.Offset)
	}
	line += ": " + words.Of(d.Reason)
	if words := grammarWords[d.Grammar]; words != "" {
		line += "; " + words
	}
	return line
}

func inventoryFooter(w io.Writer, n *summary, v *Inventory, s Style) error {
	n.settle()
	lines := append(n.defects, unexaminedLines(v.Unexamined)...)
	slices.SortStableFunc(n.order, func(a, b string) int { return n.kinds[b] - n.kinds[a] })
	for i, what := range n.order {
		n.order[i] = fmt.Sprintf("%d × %s", n.kinds[what], what)
	}
	sums := Plural(n.things, "thing") + " in " + Plural(v.size(), "file")
	if len(n.order) > 0 {
		sums += ": " + strings.Join(n.order, ", ")
	}
	lines = append(lines, sums+".")
	if s.Width > 0 {
		for i := range lines {
			lines[i] = wrap(lines[i], s.Width)
		}
	}
	lead := ""
	if n.things > 0 {
		lead = "\n"
	}
	_, err := fmt.Fprintln(w, lead+strings.Join(lines, "\n"))
	return err
}

// Plural is a number of things, such as 1 endpoint or 3 endpoints.
func Plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	if stem, ok := strings.CutSuffix(word, "entry"); ok {
		return fmt.Sprintf("%d %sentries", n, stem)
	}
	return fmt.Sprintf("%d %ss", n, word)
}

func unexaminedLines(list []audit.Unexamined) []string {
	var lines []string
	for _, u := range list {
		lines = append(lines, fmt.Sprintf("not examined: %s: %s", u.Target, strings.TrimSuffix(u.Reason, ".")))
	}
	return lines
}
