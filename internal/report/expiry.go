package report

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"time"

	"nurvik/core/lifetime"
	"nurvik/internal/audit"
)

// ExpirySchema names the form of the JSON of "nurvik expiry".
const ExpirySchema = "nurvik.expiry/1"

// expiryHead is what stands beside the lists.
type expiryHead struct {
	Schema   string             `json:"schema"`
	At       time.Time          `json:"at"`
	Forecast *lifetime.Forecast `json:"forecast,omitempty"`
}

// Expiry is what ends when, and what the renewals will cost where that was asked.
func Expiry(dues []lifetime.Due, unexamined []audit.Unexamined, at time.Time, forecast *lifetime.Forecast) Document {
	if unexamined == nil {
		unexamined = []audit.Unexamined{}
	}
	if dues == nil {
		dues = []lifetime.Due{}
	}
	return Document{Value: expiryHead{ExpirySchema, at.UTC().Truncate(time.Second), forecast}, Dues: dues,
		Lists: []List{
			{"dues", len(dues), func(i int) any { return &dues[i] }},
			{"unexamined", len(unexamined), func(i int) any { return unexamined[i] }},
		}, Text: func(w io.Writer, s Style) error {
			if err := expiryTable(w, dues, at, s); err != nil {
				return err
			}
			var out bytes.Buffer
			timeline(&out, dues, at, s.columns())
			if forecast != nil {
				forecastTable(&out, forecast, s.columns())
			}
			lines := append(unexaminedLines(unexamined), expirySummary(dues, at))
			for _, line := range lines {
				out.WriteString("\n" + wrap(line, s.columns()))
			}
			out.WriteByte('\n')
			_, err := w.Write(out.Bytes())
			return err
		}}
}

var stateMarks = map[string]string{"expired": "■ expired", "expires-soon": "◆ soon", "renewal-due": "◇ renewal due",
	"in-date": "· in date", "not-yet-valid": "○ not yet"}

func expiryTable(w io.Writer, dues []lifetime.Due, at time.Time, s Style) error {
	if len(dues) == 0 {
		return nil
	}
	out := newListing("ends", "in", "state", "what", "whose", "where")
	const fixed = 42 // what the first columns take where the state is a mark alone
	narrow := s.Width > 0 && s.Width < 110
	if narrow {
		out = newListing("ends", "in", "", "what", "whose", "where")
	}
	row := func(d *lifetime.Due) []string {
		state, kind, whose, places := stateMarks[d.State], string(d.Kind), d.Label, few(d.Places, 2)
		if d.Kind == lifetime.Staple {
			kind = "staple"
		}
		room := s.Width - fixed
		if narrow {
			state, _, _ = strings.Cut(state, " ")
		} else {
			room -= 12
		}
		if s.Width > 0 {
			whose = shorten(whose, room*3/5, false)
			places = shorten(places, room-room*3/5, true)
		}
		return []string{date(d.Until), until(at, d.Until), state, kind, whose, places}
	}
	for i := range dues {
		out.measure(row(&dues[i])...)
	}
	return out.write(w, len(dues), func(i int) []string { return row(&dues[i]) })
}

// until is how long something still lasts, in the unit that people think in.
func until(at, end time.Time) string {
	if end.IsZero() {
		return "?"
	}
	const many = 3650
	days := int(lifetime.Between(at, end) / lifetime.Day)
	if days > many || days < -many {
		return fmt.Sprintf("%d years", days/365)
	}
	return fmt.Sprintf("%d d", days)
}

// mostMonths is how far the timeline goes.
const mostMonths = 24

// timeline draws how much ends in each month: leaves, and all else.
func timeline(out *bytes.Buffer, dues []lifetime.Due, at time.Time, width int) {
	type bar struct{ leaves, others int }
	first := time.Date(at.Year(), at.Month(), 1, 0, 0, 0, 0, time.UTC)
	bars := make([]bar, mostMonths)
	var before, after bar
	last, highest := -1, 1
	for _, d := range dues {
		b := &before
		if months := (d.Until.Year()-first.Year())*12 + int(d.Until.Month()-first.Month()); !d.Until.Before(at) {
			if b = &after; months < mostMonths {
				b, last = &bars[months], max(last, months)
			}
		}
		if d.Kind == lifetime.Leaf {
			b.leaves++
		} else {
			b.others++
		}
		highest = max(highest, b.leaves+b.others)
	}
	if last < 0 && before.leaves+before.others == 0 {
		return
	}
	out.WriteString("\nWHAT ENDS IN EACH MONTH (█ leaves, ░ all else)\n\n")
	room := max(width-24, 10)
	line := func(name string, b bar) {
		total := b.leaves + b.others
		size := func(n int) int { return (n*room + highest - 1) / highest }
		leaves := min(size(b.leaves), room)
		others := min(size(b.others), room-leaves)
		text := fmt.Sprintf("  %-8s  %s%s", name, strings.Repeat("█", leaves), strings.Repeat("░", others))
		if total > 0 {
			text += fmt.Sprintf(" %d", total)
		}
		out.WriteString(strings.TrimRight(text, " ") + "\n")
	}
	if before.leaves+before.others > 0 {
		line("before", before)
	}
	for i := 0; i <= last; i++ {
		line(first.AddDate(0, i, 0).Format("2006-01"), bars[i])
	}
	if after.leaves+after.others > 0 {
		line("later", after)
	}
}

// forecastTable shows the renewals of each month, under both lifetimes.
func forecastTable(out *bytes.Buffer, f *lifetime.Forecast, width int) {
	highest := 1
	for _, m := range f.Months {
		highest = max(highest, m.Today, m.Coming)
	}
	fmt.Fprintf(out, "\n%s\n\n", wrap(fmt.Sprintf("RENEWALS A MONTH, AT %d MINUTES EACH (█ today's lifetimes, ▓ the "+
		"coming limits of public CAs)", f.Minutes), width))
	room := max((width-52)/2, 6)
	bar := func(mark string, n int) string { return strings.Repeat(mark, (n*room+highest-1)/highest) }
	for _, m := range f.Months {
		today, coming := bar("█", m.Today), bar("▓", m.Coming)
		fmt.Fprintf(out, "  %s  %6d %8.1f h  %s%s  %6d %8.1f h  %s\n", m.Month, m.Today, m.TodayHours, today,
			strings.Repeat(" ", room-len([]rune(today))), m.Coming, m.ComingHours, coming)
	}
	out.WriteByte('\n')
	for _, x := range []struct {
		day   *time.Time
		under string
	}{{f.DoublesToday, "today's lifetimes"}, {f.DoublesComing, "the coming limits"}} {
		if x.day == nil {
			out.WriteString(wrap("Under "+x.under+" the load does not double before the end of the forecast.", width) +
				"\n")
			continue
		}
		out.WriteString(wrap(fmt.Sprintf(
			"Under %s the load has doubled on %s: the 30 days from then on bring twice the "+
				"renewals of the first 30.", x.under, date(*x.day)), width) + "\n")
	}
}

func expirySummary(dues []lifetime.Due, at time.Time) string {
	n := map[string]int{}
	for _, d := range dues {
		n[d.State]++
	}
	return fmt.Sprintf("%s: %d expired, %d expire soon, %d due for renewal, %d in date; as of %s.",
		Plural(len(dues), "thing"), n["expired"], n["expires-soon"], n["renewal-due"], n["in-date"]+n["not-yet-valid"],
		at.UTC().Format("2006-01-02 15:04:05 MST"))
}
