package lifetime_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"nurvik/core/lifetime"
	"nurvik/core/pki"
)

const day = 24 * time.Hour

var windows = lifetime.Windows{RenewalFraction: 1.0 / 3, SoonAtMost: 14 * day, SoonFraction: 0.1}

func TestStateAt(t *testing.T) {
	begin := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	lasting := func(d time.Duration) *pki.Certificate {
		return &pki.Certificate{NotBefore: begin, NotAfter: begin.Add(d - time.Second)}
	}
	long, short, year := lasting(199*day), lasting(6*day), lasting(398*day)
	tests := []struct {
		name string
		c    *pki.Certificate
		at   time.Time
		want lifetime.State
	}{
		{"a second before it begins", long, begin.Add(-time.Second), lifetime.NotYetValid},
		{"the first second belongs to it", long, begin, lifetime.Valid},
		{"in the middle", long, begin.Add(100 * day), lifetime.Valid},
		{"a third left is not yet due", long, begin.Add(132 * day), lifetime.Valid},
		{"less than a third left", long, begin.Add(133 * day), lifetime.RenewalDue},
		{"twenty days of 199: fourteen days decide no more than a tenth", long, begin.Add(179 * day),
			lifetime.RenewalDue},
		{"nine days of 199", long, begin.Add(190 * day), lifetime.ExpiresSoon},
		{"fifteen days of 398: a tenth decides no more than fourteen days", year, begin.Add(383 * day),
			lifetime.RenewalDue},
		{"thirteen days of 398", year, begin.Add(385 * day), lifetime.ExpiresSoon},
		{"a day left of six is not soon", short, begin.Add(5 * day), lifetime.RenewalDue},
		{"half a day left of six", short, begin.Add(5*day + 12*time.Hour), lifetime.ExpiresSoon},
		{"the last second belongs to it", long, long.NotAfter, lifetime.ExpiresSoon},
		{"a fraction of that second too", long, long.NotAfter.Add(999 * time.Millisecond), lifetime.ExpiresSoon},
		{"a second later", long, long.NotAfter.Add(time.Second), lifetime.Expired},
		{"dates that could not be read", &pki.Certificate{}, begin, lifetime.Unknown},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			assert.Equal(t, tt.want, lifetime.StateAt(tt.c, tt.at, windows))
		})
	}
	assert.Equal(t, 199*day, lifetime.Span(long), "both ends belong to it")
	assert.True(t, lifetime.ValidAt(long, long.NotAfter))
	assert.False(t, lifetime.ValidAt(long, begin.Add(-time.Nanosecond)), "the second before has not ended")
}
