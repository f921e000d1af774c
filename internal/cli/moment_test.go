package cli

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParseMoment(t *testing.T) {
	now := time.Date(2026, 11, 25, 10, 30, 0, 0, time.FixedZone("", 3600))
	tests := []struct{ name, text, want string }{
		{"nothing is now", "", "2026-11-25T09:30:00Z"},
		{"a date is its start", "2027-03-15", "2027-03-15T00:00:00Z"},
		{"RFC 3339", "2027-03-15T08:00:00+02:00", "2027-03-15T06:00:00Z"},
		{"days from now", "+30d", "2026-12-25T09:30:00Z"},
		{"hours back", "-2h", "2026-11-25T07:30:00Z"},
		{"weeks", "+1w", "2026-12-02T09:30:00Z"},
		{"the last day that can be written", "9999-12-31", "9999-12-31T00:00:00Z"},
		{"further than a time.Duration", "+999999d", "4764-10-21T09:30:00Z"},
		{"minutes and seconds have units of their own", "+90m", "2026-11-25T11:00:00Z"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			got, err := parseMoment(tt.text, now)
			require.NoError(t, err)
			assert.Equal(t, tt.want, got.Format(time.RFC3339))
		})
	}
	for _, wrong := range []string{"tomorrow", "30d", "+d", "+30", "+1y", "2027-13-01", "15.03.2027", "+9999999d",
		"+9999999w",
		"-999999d", "9999-12-31T23:59:59-01:00"} {
		_, err := parseMoment(wrong, now)
		assert.ErrorContains(t, err, "2027-03-15", "%q: the forms are shown", wrong)
	}
}
