package judge

import (
	"fmt"
	"strings"
	"time"

	"nurvik/core/lifetime"
	"nurvik/core/pki"
)

// day writes a time as reports do.
func day(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 MST") }

// span writes a duration in the unit that people think in.
func span(d time.Duration) string {
	switch {
	case d == lifetime.Longest || d <= -lifetime.Longest: // the negation of the least would be itself
		return "more than 290 years"
	case d < 0:
		return span(-d)
	case d < time.Hour:
		return plural(int(d/time.Minute), "minute")
	case d < 48*time.Hour:
		return plural(int(d/time.Hour), "hour")
	}
	return plural(int(d/(24*time.Hour)), "day")
}

func plural(n int, unit string) string {
	if n == 1 {
		return "1 " + unit
	}
	return fmt.Sprintf("%d %ss", n, unit)
}

// joined writes a list as a sentence does: a, b and c.
func joined(names []string) string {
	last := len(names) - 1
	if last < 1 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:last], ", ") + " and " + names[last]
}

// firstFew writes the first of a list, and how many more there are.
func firstFew(names []string) string {
	const most = 4
	if len(names) > most {
		return strings.Join(names[:most], ", ") + " and " + plural(len(names)-most, "other")
	}
	return strings.Join(names, ", ")
}

// inOrder writes certificates one after the other.
func inOrder(list []*pki.Certificate) string { return strings.Join(labels(list), ", then ") }

func labels(list []*pki.Certificate) []string {
	out := make([]string, len(list))
	for i, c := range list {
		out[i] = c.Label()
	}
	return out
}

// at names a place in a file.
func at(line, offset int) string {
	if line > 0 {
		return fmt.Sprintf("line %d", line)
	}
	return fmt.Sprintf("byte %d", offset)
}
