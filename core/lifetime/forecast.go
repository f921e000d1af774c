package lifetime

import (
	"slices"
	"time"
)

// Forecast is how many renewals of leaves each month brings, if each is renewed as soon as that is due.
type Forecast struct {
	Months  []Month    `json:"months"`
	Minutes int        `json:"minutes" doc:"Of work for a renewal"`
	Today   *time.Time `json:"doubles_today,omitempty" doc:"The first day of 30 with twice the renewals of the first 30, under today's lifetimes"`
	Coming  *time.Time `json:"doubles_coming,omitempty" doc:"The same under the coming limits of public CAs"`
}

// Month is one month of a forecast.
type Month struct {
	Month       string  `json:"month" doc:"Such as 2026-12"`
	Today       int     `json:"today" doc:"Renewals under today's lifetimes"`
	Coming      int     `json:"coming" doc:"Renewals under the coming limits of public CAs"`
	TodayHours  float64 `json:"today_hours"`
	ComingHours float64 `json:"coming_hours"`
}

// mostRenewals of one certificate are counted: with a lifetime of hours there would be no end.
const mostRenewals = 10_000

// Predict renews every leaf, from the moment until the end, as often as its lifetime asks. limit is what a public CA
// may give to a certificate that it issues on a day, in days; 0 for no limit.
func Predict(dues []Due, at, end time.Time, r Renewal, minutes int, limit func(issued time.Time) int) Forecast {
	var today, coming []int64
	for _, d := range dues {
		if d.Kind != Leaf || d.From.IsZero() || d.Until.IsZero() || !d.From.Before(d.Until) {
			continue
		}
		life := Between(d.From, d.Until) + 1
		first := max(at.Unix(), r.From(d.From, d.Until).Unix())
		today = renewals(today, first, end.Unix(), r, func(int64) Seconds { return life })
		coming = renewals(coming, first, end.Unix(), r, func(issued int64) Seconds {
			if days := limit(time.Unix(issued, 0)); d.Public && days > 0 {
				return min(life, Seconds(days)*Day)
			}
			return life
		})
	}
	f := Forecast{Minutes: minutes, Today: doubles(today, at), Coming: doubles(coming, at)}
	perMonth := func(list []int64) map[string]int {
		out := map[string]int{}
		for _, t := range list {
			out[time.Unix(t, 0).UTC().Format("2006-01")]++
		}
		return out
	}
	a, b := perMonth(today), perMonth(coming)
	for m := time.Date(at.Year(), at.Month(), 1, 0, 0, 0, 0, time.UTC); m.Before(end); m = m.AddDate(0, 1, 0) {
		name := m.Format("2006-01")
		f.Months = append(f.Months, Month{name, a[name], b[name], float64(a[name]*minutes) / 60,
			float64(b[name]*minutes) / 60})
	}
	return f
}

// renewals adds the times at which a certificate is renewed.
func renewals(out []int64, next, end int64, r Renewal, life func(issued int64) Seconds) []int64 {
	for range mostRenewals {
		if next >= end {
			break
		}
		out = append(out, next)
		l := life(next)
		next += int64(max(l-r.left(l), 1))
	}
	return out
}

// doubles is the first day on which 30 days begin with at least twice the renewals of the first 30; nil for none.
func doubles(times []int64, at time.Time) *time.Time {
	const days = 30
	slices.Sort(times)
	day := int64(Day)
	begin := at.Unix()
	within := func(from int64) int {
		first, _ := slices.BinarySearch(times, from)
		last, _ := slices.BinarySearch(times, from+days*day)
		return last - first
	}
	first := within(begin)
	if first == 0 || len(times) == 0 {
		return nil
	}
	for from := begin + day; from+days*day <= times[len(times)-1]+day; from += day {
		if within(from) >= 2*first {
			t := time.Unix(from, 0).UTC()
			return &t
		}
	}
	return nil
}
