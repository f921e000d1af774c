package judge

import (
	"fmt"
	"strings"
	"time"

	"nurvik/core/lifetime"
	"nurvik/core/pki"
)

// day writes a time as reports do.
func day(t time.Time) string {
	if t.IsZero() {
		return "a date that cannot be read"
	}
	return t.UTC().Format("2006-01-02 15:04 MST")
}

// span writes a span of time in the unit that people think in.
func span(s lifetime.Seconds) string {
	switch {
	case s < 0:
		return span(-s)
	case s < lifetime.Hour:
		return plural(int(s/lifetime.Minute), "minute")
	case s < 2*lifetime.Day:
		return plural(int(s/lifetime.Hour), "hour")
	}
	return plural(int(s/lifetime.Day), "day")
}

// expired says of a certificate whose life is over when it ended.
func expired(c *pki.Certificate) string {
	if c.NotAfter.IsZero() {
		return "has a notAfter that cannot be read, which counts as expired"
	}
	return "expired on " + day(c.NotAfter)
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
