package report_test

import (
	"bytes"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/lifetime"
	"nurvik/core/pki"
	"nurvik/internal/report"
)

var dueAt = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)

func duesSample() []lifetime.Due {
	due := func(kind lifetime.Kind, label string, from, until int, places ...string) lifetime.Due {
		d := lifetime.Due{Kind: kind, Label: label, Issuer: "Skerry Outer Issuing", From: dueAt.AddDate(0, 0, from),
			Until: dueAt.AddDate(0, 0, until), Places: places, Public: true}
		d.State = lifetime.Third.StateOf(kind, d.From, d.Until, dueAt)
		if kind == lifetime.Leaf || kind == lifetime.Anchor {
			copy(d.SHA256[:], label)
		}
		if kind == lifetime.Leaf {
			renew := lifetime.Third.From(d.From, d.Until)
			d.Renew = &renew
		}
		return d
	}
	out := []lifetime.Due{
		due(lifetime.Leaf, "ferries.tarnholm.example", -200, -2, "ferries.tarnholm.example:443"),
		due(lifetime.Staple, "tides.tarnholm.example:443", -1, 3, "tides.tarnholm.example:443"),
		due(lifetime.List, "Skerry Outer Root", -3, 4, "/srv/lists/outer-root.crl"),
		due(lifetime.Leaf, "berths.tarnholm.example", -190, 9, "/etc/ssl/harbour/berths.crt",
			"berths.tarnholm.example:443",
			"/srv/backup/berths.crt"),
		due(lifetime.Leaf, "tides.tarnholm.example", -150, 49, "tides.tarnholm.example:443"),
		due(lifetime.Leaf, "pilots.tarnholm.example", -20, 179, "pilots.tarnholm.example:443"),
		due(lifetime.Anchor, "Skerry Outer Root", -3000, 4000, "/etc/ssl/anchors/outer.pem"),
	}
	lifetime.Sort(out)
	return out
}

func TestExpiry(t *testing.T) {
	forecast := lifetime.Predict(duesSample(), dueAt, dueAt.AddDate(0, 8, 0), lifetime.Third, 30,
		func(time.Time) int { return 47 })
	for name, width := range map[string]int{"expiry-wide": 140, "expiry-narrow": 80} {
		var out bytes.Buffer
		document := report.Expiry(duesSample(), nil, dueAt, &forecast)
		require.NoError(t, document.Text(&out, report.Style{Width: width}))
		golden(t, "testdata/"+name+".txt", out.String())
		for _, line := range strings.Split(out.String(), "\n") {
			assert.LessOrEqual(t, utf8.RuneCountInString(line), width, line)
		}
	}
}

// TestCalendar: a calendar that is fetched again has the same events, and a renewed certificate another one.
func TestCalendar(t *testing.T) {
	write := func(dues []lifetime.Due) string {
		var out bytes.Buffer
		format, err := report.FormatNamed("icalendar")
		require.NoError(t, err)
		require.NoError(t, format.Write(&out, report.Expiry(dues, nil, dueAt, nil), report.Style{}))
		return out.String()
	}
	ids := func(text string) (out []string) {
		for line := range strings.Lines(strings.ReplaceAll(text, "\r\n ", "")) {
			if strings.HasPrefix(line, "UID:") {
				out = append(out, strings.TrimSpace(line))
			}
		}
		return out
	}
	text := write(duesSample())
	assert.Equal(t, text, write(duesSample()), "nothing in it depends on when it was made")
	require.Len(t, ids(text), 7)
	moved := duesSample()
	moved[3].Places = []string{"/elsewhere.pem"}
	assert.Equal(t, ids(text), ids(write(moved)))
	renewed := duesSample()
	renewed[3].SHA256 = pki.Fingerprint{9}
	assert.NotEqual(t, ids(text), ids(write(renewed)))
	newer := duesSample()[2]
	newer.Until = newer.Until.AddDate(0, 0, 7)
	both := append(duesSample(), newer)
	lifetime.Sort(both)
	assert.ElementsMatch(t, ids(text), ids(write(both)), "the newer CRL of an issuer takes the place of the older")
	assert.Contains(t, text, "BEGIN:VCALENDAR\r\n")
	assert.Contains(t, text, "SUMMARY:Renew tides.tarnholm.example\r\n")
	assert.Contains(t, text, "DTSTART;VALUE=DATE:20261108\r\n", "a leaf stands on the day of its renewal")
	assert.Contains(t, text, "CRL Skerry Outer Root ends")
	for line := range strings.Lines(text) {
		assert.LessOrEqual(t, len(line), 77, "lines are folded (RFC 5545, 3.1)")
	}
	format, err := report.FormatNamed("icalendar")
	require.NoError(t, err)
	assert.ErrorIs(t, format.Write(&bytes.Buffer{}, report.Audit(sample(), false), report.Style{}),
		report.ErrNoCalendar)
}
