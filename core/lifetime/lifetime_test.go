package lifetime_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"nurvik/core/lifetime"
	"nurvik/core/pki"
)

const day = 24 * time.Hour

var windows = lifetime.Windows{RenewalFraction: 1.0 / 3, SoonAtMost: 14 * lifetime.Day, SoonFraction: 0.1}

func year(n int) time.Time { return time.Date(n, 1, 1, 0, 0, 0, 0, time.UTC) }

func TestStateAt(t *testing.T) {
	begin := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	lasting := func(d time.Duration) *pki.Certificate {
		return &pki.Certificate{NotBefore: begin, NotAfter: begin.Add(d - time.Second)}
	}
	long, short, long398 := lasting(199*day), lasting(6*day), lasting(398*day)
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
		{"fifteen days of 398: a tenth decides no more than fourteen days", long398, begin.Add(383 * day),
			lifetime.RenewalDue},
		{"thirteen days of 398", long398, begin.Add(385 * day), lifetime.ExpiresSoon},
		{"a day left of six is not soon", short, begin.Add(5 * day), lifetime.RenewalDue},
		{"half a day left of six", short, begin.Add(5*day + 12*time.Hour), lifetime.ExpiresSoon},
		{"the last second belongs to it", long, long.NotAfter, lifetime.ExpiresSoon},
		{"a fraction of that second too", long, long.NotAfter.Add(999 * time.Millisecond), lifetime.ExpiresSoon},
		{"a second later", long, long.NotAfter.Add(time.Second), lifetime.Expired},
		{"no date could be read", &pki.Certificate{}, begin, lifetime.Expired},
		{"notAfter could not be read", &pki.Certificate{NotBefore: begin}, begin, lifetime.Expired},
		{"notBefore could not be read", &pki.Certificate{NotAfter: long.NotAfter}, begin, lifetime.Unknown},
		{"an unreadable notBefore hides no end", &pki.Certificate{NotAfter: begin}, begin.Add(day), lifetime.Expired},
		{"an absurd notBefore hides no end", &pki.Certificate{NotBefore: year(9000), NotAfter: begin}, begin.Add(day),
			lifetime.Expired},
		{"eight thousand years", &pki.Certificate{NotBefore: year(0), NotAfter: year(9999)}, year(4000),
			lifetime.Valid},
		{"over for two thousand years", &pki.Certificate{NotBefore: year(0), NotAfter: year(3)}, year(4764),
			lifetime.Expired},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			assert.Equal(t, tt.want, lifetime.StateAt(tt.c, tt.at, windows))
		})
	}
	assert.Equal(t, 199*lifetime.Day, lifetime.Span(long), "both ends belong to it")
	assert.Equal(t, -(1_739_146 * lifetime.Day), lifetime.Left(&pki.Certificate{NotAfter: year(3)},
		year(4764).AddDate(0, 7, 14)))
	assert.True(t, lifetime.ValidAt(long, long.NotAfter))
	assert.False(t, lifetime.ValidAt(long, begin.Add(-time.Nanosecond)), "the second before has not ended")
}
