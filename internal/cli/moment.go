package cli

import (
	"fmt"
	"regexp"
	"strconv"
	"time"

	"nurvik/core/lifetime"
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
		count, err := strconv.ParseInt(m[1]+m[2], 10, 64)
		unit := map[string]lifetime.Seconds{"s": 1, "m": lifetime.Minute, "h": lifetime.Hour, "d": lifetime.Day,
			"w": 7 * lifetime.Day}[m[3]]
		// A time.Duration ends at 292 years, so whole seconds are added.
		at := time.Unix(now.Unix()+count*int64(unit), int64(now.Nanosecond())).UTC()
		if err == nil && plain.Time(at) {
			return at, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no time in the years 0 to 9999: write 2027-03-15, 2027-03-15T08:00:00Z, "+
		"+30d or -2h", text)
}
