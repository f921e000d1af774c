package lifetime

import (
	"time"
)

// Forecast is how many renewals of leaves each month brings, if each is renewed as soon as that is due.
type Forecast struct {
	Months        []Month    `json:"months"`
	Minutes       int        `json:"minutes" doc:"Of work for a renewal"`
	DoublesToday  *time.Time `json:"doubles_today,omitempty" doc:"The first day of 30 with twice the renewals of the first 30, under today's lifetimes"`
	DoublesComing *time.Time `json:"doubles_coming,omitempty" doc:"The same under the coming limits of public CAs"`
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
	today, coming := newTally(at, end), newTally(at, end)
	limits := newLimits(at, end, limit)
	for i := range dues {
		d := &dues[i]
		if d.Kind != Leaf || d.From.IsZero() || d.Until.IsZero() || !d.From.Before(d.Until) {
			continue
		}
		life := Between(d.From, d.Until) + 1
		first := max(at.Unix(), r.From(d.From, d.Until).Unix())
		today.renew(first, r, func(int64) Seconds { return life })
		coming.renew(first, r, func(issued int64) Seconds {
			if most := limits.on(issued); d.Public && most > 0 {
				return min(life, most)
			}
			return life
		})
	}
	f := Forecast{Months: []Month{}, Minutes: minutes, DoublesToday: today.doubles(), DoublesComing: coming.doubles()}
	a, b := today.months(), coming.months()
	for m := time.Date(at.Year(), at.Month(), 1, 0, 0, 0, 0, time.UTC); m.Before(end); m = m.AddDate(0, 1, 0) {
		name := m.Format("2006-01")
		f.Months = append(f.Months, Month{name, a[name], b[name], float64(a[name]*minutes) / 60,
			float64(b[name]*minutes) / 60})
	}
	return f
}

const secondsOfDay = int64(Day)

// limits are what a public CA may give on each day: whoever asks for a hundred thousand certificates asks often.
type limits struct {
	first int64 // day since 1970
	most  []Seconds
}

func newLimits(at, end time.Time, limit func(issued time.Time) int) limits {
	l := limits{first: at.Unix() / secondsOfDay}
	for day := l.first; day <= end.Unix()/secondsOfDay; day++ {
		l.most = append(l.most, Seconds(limit(time.Unix(max(day*secondsOfDay, at.Unix()), 0)))*Day)
	}
	return l
}

func (l limits) on(issued int64) Seconds {
	if i := issued/secondsOfDay - l.first; i >= 0 && i < int64(len(l.most)) {
		return l.most[i]
	}
	return 0
}

// tally counts renewals by day: those of 24 hours from the beginning on, and those of the calendar.
type tally struct {
	begin, end int64
	since      []int         // by whole days since the beginning
	dates      map[int64]int // by days since 1970
}

func newTally(at, end time.Time) *tally {
	days := max((end.Unix()-at.Unix())/secondsOfDay+1, 1)
	return &tally{begin: at.Unix(), end: end.Unix(), since: make([]int, days), dates: map[int64]int{}}
}

// renew counts the times at which a certificate is renewed.
func (t *tally) renew(next int64, r Renewal, life func(issued int64) Seconds) {
	for range mostRenewals {
		if next >= t.end {
			break
		}
		t.since[(next-t.begin)/secondsOfDay]++
		t.dates[next/secondsOfDay]++
		l := life(next)
		next += int64(max(l-r.left(l), 1))
	}
}

func (t *tally) months() map[string]int {
	out := map[string]int{}
	for day, count := range t.dates {
		out[time.Unix(day*secondsOfDay, 0).UTC().Format("2006-01")] += count
	}
	return out
}

// doubles is the first day on which 30 days begin with at least twice the renewals of the first 30; nil for none.
func (t *tally) doubles() *time.Time {
	const days = 30
	within := 0
	for _, count := range t.since[:min(days, len(t.since))] {
		within += count
	}
	first := within
	for from := 1; first > 0 && from+days <= len(t.since); from++ {
		within += t.since[from+days-1] - t.since[from-1]
		if within >= 2*first {
			day := time.Unix(t.begin+int64(from)*secondsOfDay, 0).UTC()
			return &day
		}
	}
	return nil
}
