package lifetime_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/lifetime"
)

var start = time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC)

func days(n int) time.Time { return start.AddDate(0, 0, n) }

func TestParseRenewal(t *testing.T) {
	for text, want := range map[string]lifetime.Renewal{
		"30d": {Before: 30 * lifetime.Day}, "1/3": lifetime.Third, "0.25": {Share: 0.25}, "1/4": {Share: 0.25},
	} {
		got, err := lifetime.ParseRenewal(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"", "d", "0d", "-3d", "30", "3/1", "1/0", "x/3", "1.5", "NaN", "4000d"} {
		_, err := lifetime.ParseRenewal(text)
		assert.ErrorContains(t, err, "neither days", text)
	}
}

func TestRenewals(t *testing.T) {
	from, until := days(-60), days(30).Add(-time.Second) // 90 days to the second
	assert.Equal(t, days(0).Add(-time.Second), lifetime.Third.From(from, until))
	assert.Equal(t, days(20).Add(-time.Second), lifetime.Renewal{Before: 10 * lifetime.Day}.From(from, until))
	for name, tt := range map[string]struct {
		kind  lifetime.Kind
		until time.Time
		at    time.Time
		want  string
	}{
		"the last second counts":     {lifetime.Leaf, days(0), days(0), "expires-soon"},
		"a second later":             {lifetime.Leaf, days(0), days(0).Add(time.Second), "expired"},
		"cannot be read":             {lifetime.Leaf, time.Time{}, days(0), "expired"},
		"soon":                       {lifetime.Leaf, days(5), days(0), "expires-soon"},
		"due":                        {lifetime.Leaf, days(20), days(0), "renewal-due"},
		"valid":                      {lifetime.Leaf, days(60), days(0), "in-date"},
		"an intermediate is not due": {lifetime.Intermediate, days(5), days(0), "in-date"},
		"not yet":                    {lifetime.Leaf, days(5), days(-100), "not-yet-valid"},
	} {
		assert.Equal(t, tt.want, lifetime.Third.StateOf(tt.kind, days(-90), tt.until, tt.at), name)
	}
}

// TestForecast: a leaf of 90 days is renewed every 60, and one of 398 days more and more often as the limits come.
func TestForecast(t *testing.T) {
	limit := func(issued time.Time) int {
		switch {
		case !issued.Before(time.Date(2029, 3, 15, 0, 0, 0, 0, time.UTC)):
			return 47
		case !issued.Before(time.Date(2027, 3, 15, 0, 0, 0, 0, time.UTC)):
			return 100
		}
		return 200
	}
	end := time.Date(2030, 1, 1, 0, 0, 0, 0, time.UTC)
	leaf := func(life int, public bool) lifetime.Due {
		return lifetime.Due{Kind: lifetime.Leaf, From: days(0), Until: days(life).Add(-time.Second), Public: public}
	}
	total := func(f lifetime.Forecast) (today, coming int) {
		for _, m := range f.Months {
			today, coming = today+m.Today, coming+m.Coming
		}
		return today, coming
	}
	f := lifetime.Predict([]lifetime.Due{leaf(90, false)}, start, end, lifetime.Third, 30, limit)
	require.Len(t, f.Months, 38)
	assert.Equal(t, "2026-11", f.Months[0].Month)
	assert.Equal(t, "2029-12", f.Months[37].Month)
	today, coming := total(f)
	assert.Equal(t, today, coming, "a private CA has no such limits")
	assert.Equal(t, 18, today, "1131 days by 60")
	assert.InDelta(t, 0.5, f.Months[2].TodayHours, 0.001)

	many := []lifetime.Due{}
	for i := range 300 {
		d := leaf(398, true)
		d.From, d.Until = d.From.AddDate(0, 0, -i), d.Until.AddDate(0, 0, -i)
		many = append(many, d)
	}
	f = lifetime.Predict(many, start, end, lifetime.Third, 60, limit)
	today, coming = total(f)
	assert.Greater(t, coming, 3*today/2)
	require.NotNil(t, f.DoublesComing)
	assert.True(t, f.DoublesToday == nil || f.DoublesComing.Before(*f.DoublesToday), "the limits bring it forward")
	assert.Nil(t, lifetime.Predict(nil, start, end, lifetime.Third, 60, limit).DoublesComing)
}
