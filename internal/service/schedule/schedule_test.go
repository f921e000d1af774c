package schedule_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/api"
	"nurvik/internal/service/schedule"
)

func at(t *testing.T, text string) time.Time {
	t.Helper()
	out, err := time.Parse("2006-01-02 15:04 -0700", text)
	require.NoError(t, err)
	return out
}

func checked(t *testing.T, s api.ScheduleSettings) schedule.Schedule {
	t.Helper()
	out, defects := schedule.New(s)
	require.Empty(t, defects)
	return out
}

func TestNext(t *testing.T) {
	// 30 November 2026 is a Monday. Oslo's clocks are put forward on 28 March 2027 and back on 31 October 2027.
	for name, c := range map[string]struct {
		settings        api.ScheduleSettings
		last, now, next string
	}{
		"every six hours": {api.ScheduleSettings{Every: 6}, "2026-11-30 10:00 +0000", "2026-11-30 10:00 +0000",
			"2026-11-30 16:00 +0000"},
		"missed ones are one": {api.ScheduleSettings{Every: 1}, "2026-11-30 10:00 +0000", "2026-11-30 17:20 +0000",
			"2026-11-30 17:20 +0000"},
		"not into the quiet hours": {api.ScheduleSettings{Every: 6, Quiet: "15:00-18:30"}, "2026-11-30 10:00 +0000",
			"2026-11-30 10:00 +0000", "2026-11-30 18:30 +0000"},
		"quiet over midnight": {api.ScheduleSettings{Every: 6, Quiet: "22:00-06:00"}, "2026-11-30 18:00 +0000",
			"2026-11-30 18:00 +0000", "2026-12-01 06:00 +0000"},
		"quiet in the schedule's zone": {api.ScheduleSettings{Every: 6, Quiet: "17:00-18:00", Zone: "Europe/Oslo"},
			"2026-11-30 10:00 +0000", "2026-11-30 10:00 +0000", "2026-11-30 17:00 +0000"},
		"only on some days": {api.ScheduleSettings{Every: 24, Days: []string{"mon", "thu"}}, "2026-11-30 10:00 +0000",
			"2026-11-30 10:00 +0000", "2026-12-03 00:00 +0000"},
		"a day that begins quietly": {api.ScheduleSettings{Every: 24, Days: []string{"thu"}, Quiet: "23:00-04:00"},
			"2026-11-30 10:00 +0000", "2026-11-30 10:00 +0000", "2026-12-03 04:00 +0000"},
		"at times of the day": {api.ScheduleSettings{At: []string{"14:00", "02:30"}}, "2026-11-30 02:30 +0000",
			"2026-11-30 02:30 +0000", "2026-11-30 14:00 +0000"},
		"tomorrow": {api.ScheduleSettings{At: []string{"02:30"}}, "2026-11-30 02:30 +0000",
			"2026-11-30 02:30 +0000", "2026-12-01 02:30 +0000"},
		"on working days": {api.ScheduleSettings{At: []string{"02:30"}, Zone: "Europe/Oslo",
			Days: []string{"mon", "tue", "wed", "thu", "fri"}}, "2026-12-04 01:30 +0000", "2026-12-04 01:30 +0000",
			"2026-12-07 02:30 +0100"},
		"the day is that of the zone": {api.ScheduleSettings{At: []string{"01:00"}, Zone: "Pacific/Auckland",
			Days: []string{"tue"}}, "2026-11-30 10:00 +0000", "2026-11-30 10:00 +0000", "2026-12-01 01:00 +1300"},
		"a time that the clocks leave out": {api.ScheduleSettings{At: []string{"02:30"}, Zone: "Europe/Oslo"},
			"2027-03-27 02:30 +0100", "2027-03-27 02:30 +0100", "2027-03-28 03:30 +0200"},
		"the day after": {api.ScheduleSettings{At: []string{"02:30"}, Zone: "Europe/Oslo"},
			"2027-03-28 03:30 +0200", "2027-03-28 03:30 +0200", "2027-03-29 02:30 +0200"},
		"a time that comes twice, once": {api.ScheduleSettings{At: []string{"02:30"}, Zone: "Europe/Oslo"},
			"2027-10-30 02:30 +0200", "2027-10-30 02:30 +0200", "2027-10-31 02:30 +0100"},
		"and not again": {api.ScheduleSettings{At: []string{"02:30"}, Zone: "Europe/Oslo"},
			"2027-10-31 02:30 +0100", "2027-10-31 02:30 +0100", "2027-11-01 02:30 +0100"},
	} {
		t.Run(name, func(t *testing.T) {
			next := checked(t, c.settings).Next(at(t, c.last), at(t, c.now))
			assert.True(t, next.Equal(at(t, c.next)), "%s, not %s", next, c.next)
		})
	}
}

func TestSpreadEndsBeforeTheQuietHours(t *testing.T) {
	s := checked(t, api.ScheduleSettings{Every: 24, Spread: 120, Quiet: "07:00-09:00"})
	assert.Equal(t, 2*time.Hour, s.Spread(at(t, "2026-11-30 01:00 +0000")))
	assert.Equal(t, 30*time.Minute, s.Spread(at(t, "2026-11-30 06:30 +0000")))
	assert.Equal(t, at(t, "2026-11-30 09:00 +0000").UTC(), s.QuietEnd(at(t, "2026-11-30 07:10 +0000")))
	assert.False(t, s.Quiet(at(t, "2026-11-30 09:00 +0000")))
	assert.Equal(t, 2*time.Hour, checked(t, api.ScheduleSettings{Every: 24, Spread: 120}).Spread(time.Now()))
}

func TestSettings(t *testing.T) {
	for name, c := range map[string]struct {
		settings       api.ScheduleSettings
		setting, words string
	}{
		"neither":            {api.ScheduleSettings{}, "every", "at which times"},
		"both":               {api.ScheduleSettings{Every: 4, At: []string{"02:00"}}, "every", "or at which times"},
		"too rare":           {api.ScheduleSettings{Every: 721}, "every", "30 days"},
		"no time":            {api.ScheduleSettings{At: []string{"02:00", "24:00"}}, "at[1]", `"24:00" is no time`},
		"no day":             {api.ScheduleSettings{Every: 1, Days: []string{"monday"}}, "days[0]", "mon, tue"},
		"no zone":            {api.ScheduleSettings{Every: 1, Zone: "Europe/Tarnholm"}, "zone", "not known"},
		"the machine's zone": {api.ScheduleSettings{Every: 1, Zone: "Local"}, "zone", "not known"},
		"half a quiet time":  {api.ScheduleSettings{Every: 1, Quiet: "07:00"}, "quiet", "from one time until another"},
		"always quiet":       {api.ScheduleSettings{Every: 1, Quiet: "07:00-07:00"}, "quiet", "from one time"},
		"at a quiet time": {api.ScheduleSettings{At: []string{"07:30"}, Quiet: "07:00-08:00"}, "at[0]",
			"in the quiet hours"},
		"spread too far": {api.ScheduleSettings{Every: 1, Spread: 61}, "spread", "until the next audit"},
	} {
		t.Run(name, func(t *testing.T) {
			_, defects := schedule.New(c.settings)
			require.Len(t, defects, 1)
			assert.Equal(t, c.setting, defects[0].Setting)
			assert.Contains(t, defects[0].Words, c.words)
		})
	}
}

func TestWords(t *testing.T) {
	assert.Equal(t, "every hour", schedule.Words(api.ScheduleSettings{Every: 1}))
	assert.Equal(t, "every 6 hours, not from 07:00 until 09:00 (UTC), spread over 30 minutes",
		schedule.Words(api.ScheduleSettings{Every: 6, Quiet: "07:00-09:00", Spread: 30}))
	assert.Equal(t, "at 02:00 and 14:00 on mon, tue and fri (Europe/Oslo)", schedule.Words(api.ScheduleSettings{
		At: []string{"02:00", "14:00"}, Days: []string{"mon", "tue", "fri"}, Zone: "Europe/Oslo"}))
}

// FuzzSettings: whatever settings are accepted, the next time is after the last, allowed, and later the later it is.
func FuzzSettings(f *testing.F) {
	f.Add(6, "", "", "UTC", "22:00-06:00", int64(1_790_000_000))
	f.Add(0, "02:30", "mon", "Europe/Oslo", "", int64(1_806_000_000))
	f.Add(24, "", "thu", "Pacific/Auckland", "23:00-04:00", int64(1_837_000_000))
	f.Fuzz(func(t *testing.T, every int, clock, day, zone, quiet string, unix int64) {
		settings := api.ScheduleSettings{Every: every, Zone: zone, Quiet: quiet}
		if clock != "" {
			settings.At = []string{clock}
		}
		if day != "" {
			settings.Days = []string{day}
		}
		s, defects := schedule.New(settings)
		if len(defects) > 0 {
			return
		}
		now := time.Unix(unix%4_000_000_000, 0)
		next := s.Next(now, now)
		require.True(t, next.After(now))
		require.False(t, s.Quiet(next) && every > 0)
		require.LessOrEqual(t, next.Sub(now), time.Duration(every)*time.Hour+10*24*time.Hour)
		later := now.Add(time.Hour)
		require.False(t, s.Next(later, later).Before(next))
	})
}
