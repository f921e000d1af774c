package cli

import (
	"fmt"
	"regexp"
	"strconv"
	"time"

	"nurvik/core/plain"
)

var offsetForm = regexp.MustCompile(`^([+-])(\d{1,6})([smhdw])$`)

// parseMoment reads a TIME: RFC 3339, a date (its start, UTC) or an offset
// from now such as +30d or -2h. An empty text is now.
func parseMoment(text string, now time.Time) (time.Time, error) {
	if text == "" {
		return now.UTC(), nil
	}
	for _, form := range []string{time.RFC3339, time.DateOnly} {
		if at, err := time.Parse(form, text); err == nil && plain.Time(at) {
			return at.UTC(), nil
		}
	}
	if m := offsetForm.FindStringSubmatch(text); m != nil {
		count, err := strconv.Atoi(m[1] + m[2])
		if err == nil {
			unit := map[string]time.Duration{"s": time.Second, "m": time.Minute, "h": time.Hour, "d": 24 * time.Hour,
				"w": 7 * 24 * time.Hour}[m[3]]
			at := now.UTC().Add(time.Duration(count) * unit)
			if whole := time.Duration(count) * unit; whole/unit == time.Duration(count) && plain.Time(at) {
				return at, nil
			}
		}
	}
	return time.Time{}, fmt.Errorf("%q is no time: write 2027-03-15, 2027-03-15T08:00:00Z, +30d or -2h", text)
}
