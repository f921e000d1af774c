package store_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/service/store"
)

// TestClock: the database's time counts, however wrong that of this machine is.
func TestClock(t *testing.T) {
	s := database(t)
	theirs := func() (at time.Time) {
		require.NoError(t, s.Pool.QueryRow(t.Context(), "SELECT clock_timestamp()").Scan(&at))
		return at
	}
	for _, wrong := range []time.Duration{time.Hour, -2 * time.Hour, 30 * time.Minute} {
		s.Clock.Wrong(wrong)
		require.NoError(t, store.Look(s.Clock, t.Context()))
		before, now, after := theirs(), s.Clock.Stamp(), theirs()
		const half = 500 * time.Millisecond // of a round trip on a busy machine
		assert.True(t, now.After(before.Add(-half)) && now.Before(after.Add(half)), "%s: %s, %s, %s", wrong, before,
			now, after)
	}
	assert.Nil(t, s.Clock.NowOrNil(), "the queue leaves the time to the database")
	first := s.Clock.Now()
	assert.Positive(t, s.Clock.Now().Sub(first), "durations are measured by a clock that only goes on")
}
