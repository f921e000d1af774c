// Package schedule tells when the audits of a schedule are due. It has no clock and no database.
package schedule

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	_ "time/tzdata" // machines without the database of time zones know them too

	"nurvik/internal/api"
)

// Days are the names of days, in the order of time.Weekday.
var Days = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// Schedule is a checked schedule.
type Schedule struct {
	every  time.Duration // 0 where times of the day are given
	at     []minute      // sorted
	days   []time.Weekday
	zone   *time.Location
	quiet  span
	spread time.Duration
}

// minute is a time of the day.
type minute int

// span is from one time of the day until another; both are equal where there is none.
type span struct{ from, until minute }

// Defect is what is wrong with one setting.
type Defect struct{ Setting, Words string }

// New checks settings.
func New(s api.ScheduleSettings) (out Schedule, defects []Defect) {
	wrong := func(setting, format string, arguments ...any) {
		defects = append(defects, Defect{setting, fmt.Sprintf(format, arguments...)})
	}
	var err error
	if out.zone, err = zone(s.Zone); err != nil {
		wrong("zone", "the time zone %q is not known; such as Europe/Oslo, or UTC", s.Zone)
	}
	if s.Quiet != "" {
		from, until, _ := strings.Cut(s.Quiet, "-")
		out.quiet.from, err = parseMinute(from)
		if err == nil {
			out.quiet.until, err = parseMinute(until)
		}
		if err != nil || out.quiet.from == out.quiet.until {
			wrong("quiet", "quiet hours are from one time until another, such as 07:00-09:30")
		}
	}
	switch {
	case (s.Every == 0) == (len(s.At) == 0):
		wrong("every", "say every how many hours, or at which times of the day")
	case s.Every < 0 || s.Every > 720:
		wrong("every", "from 1 to 720 hours, which is 30 days")
	}
	out.every = time.Duration(s.Every) * time.Hour
	for i, text := range s.At {
		m, err := parseMinute(text)
		switch {
		case err != nil:
			wrong(fmt.Sprintf("at[%d]", i), "%v", err)
		case out.quiet.contains(m):
			wrong(fmt.Sprintf("at[%d]", i), "%s is in the quiet hours", text)
		}
		out.at = append(out.at, m)
	}
	slices.Sort(out.at)
	for i, name := range s.Days {
		day := slices.Index(Days, name)
		if day < 0 {
			wrong(fmt.Sprintf("days[%d]", i), "days are mon, tue, wed, thu, fri, sat and sun")
		}
		out.days = append(out.days, time.Weekday(day))
	}
	out.spread = time.Duration(s.Spread) * time.Minute
	if out.every > 0 && out.spread > out.every || s.Spread < 0 {
		wrong("spread", "visits cannot be spread over more than the time until the next audit")
	}
	return out, defects
}

// zone is the time zone of that name. The machine's own is meant by no schedule, for machines differ in it.
func zone(name string) (*time.Location, error) {
	if name == "Local" {
		return nil, errors.New("the machine's own time zone")
	}
	return time.LoadLocation(name)
}

func parseMinute(text string) (minute, error) {
	t, err := time.Parse("15:04", strings.TrimSpace(text))
	if err != nil {
		return 0, fmt.Errorf("%q is no time of the day, such as 02:30", text)
	}
	return minute(t.Hour()*60 + t.Minute()), nil
}

func (s span) contains(m minute) bool {
	if s.from <= s.until {
		return s.from <= m && m < s.until
	}
	return s.from <= m || m < s.until
}

// Next is when the audit after the one that was due at last is due. Those that were missed until now are not made up
// for: the first of them is due now. It is zero where no time is left, as when every day is quiet from morning to
// night.
func (s Schedule) Next(last, now time.Time) time.Time {
	if s.every == 0 {
		return s.nextAt(last, s.at)
	}
	next := last.Add(s.every)
	if next.Before(now) {
		next = now
	}
	return s.Allowed(next)
}

// First is when the first audit is due.
func (s Schedule) First(now time.Time) time.Time {
	if s.every == 0 {
		return s.nextAt(now, s.at)
	}
	return s.Allowed(now)
}

// Allowed is the first moment from then on that is on a day of the schedule and outside the quiet hours. Times of the
// day are outside them anyway.
func (s Schedule) Allowed(t time.Time) time.Time {
	for range 2*len(Days) + 2 {
		switch {
		case !s.on(t):
			t = s.nextAt(t, []minute{0})
		case s.Quiet(t):
			t = s.nextOn(t, []minute{s.quiet.until}, true)
		default:
			return t
		}
	}
	return time.Time{}
}

// Quiet reports whether no visit begins then.
func (s Schedule) Quiet(t time.Time) bool { return s.quiet.contains(minuteOf(t.In(s.zone))) }

// QuietEnd is when the quiet hours end.
func (s Schedule) QuietEnd(t time.Time) time.Time { return s.nextOn(t, []minute{s.quiet.until}, true) }

// Spread is over how long the visits of an audit are spread that begins then: not into the quiet hours.
func (s Schedule) Spread(begin time.Time) time.Duration {
	if s.quiet.from == s.quiet.until {
		return s.spread
	}
	return min(s.spread, s.nextOn(begin, []minute{s.quiet.from}, true).Sub(begin))
}

func minuteOf(t time.Time) minute { return minute(t.Hour()*60 + t.Minute()) }

func (s Schedule) on(t time.Time) bool {
	return len(s.days) == 0 || slices.Contains(s.days, t.In(s.zone).Weekday())
}

// nextAt is the first of those times of the day after t that is on a day of the schedule.
func (s Schedule) nextAt(t time.Time, times []minute) time.Time { return s.nextOn(t, times, false) }

// nextOn is that, on any day where anyDay is set. A time that the clocks leave out, when they are put forward, is the
// one that they show instead; one that they show twice comes once.
func (s Schedule) nextOn(t time.Time, times []minute, anyDay bool) time.Time {
	local := t.In(s.zone)
	for day := range len(Days) + 2 {
		for _, m := range times {
			next := time.Date(local.Year(), local.Month(), local.Day()+day, int(m)/60, int(m)%60, 0, 0, s.zone)
			if next.After(t) && (anyDay || s.on(next)) {
				return next
			}
		}
	}
	return time.Time{}
}

// Words say when audits begin.
func Words(s api.ScheduleSettings) string {
	words := "every hour"
	switch {
	case len(s.At) > 0:
		words = "at " + list(s.At)
	case s.Every > 1:
		words = fmt.Sprintf("every %d hours", s.Every)
	}
	if len(s.Days) > 0 && len(s.Days) < len(Days) {
		words += " on " + list(s.Days)
	}
	if s.Quiet != "" {
		words += ", not from " + strings.Replace(s.Quiet, "-", " until ", 1)
	}
	if len(s.At) > 0 || len(s.Days) > 0 || s.Quiet != "" {
		name := s.Zone
		if name == "" {
			name = "UTC"
		}
		words += " (" + name + ")"
	}
	if s.Spread > 0 {
		words += fmt.Sprintf(", spread over %d minutes", s.Spread)
	}
	return words
}

func list(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " and " + words[len(words)-1]
}
