package service_test

import (
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/lifetime"
	"nurvik/internal/api"
)

func TestExpiry(t *testing.T) {
	importHarbour(t)
	auditOf(t, api.AuditStart{})
	var all []api.Due
	total := 0
	for cursor := ""; ; {
		var page api.DuePage
		get(t, "/expiry?limit=50&cursor="+cursor, &page)
		all, total = append(all, page.Items...), page.Total
		if cursor = page.Next; cursor == "" {
			break
		}
	}
	require.Greater(t, len(all), 100)
	assert.Equal(t, total, len(all), "every certificate, page by page")
	ends := func(d api.Due) time.Time {
		if d.Until == nil {
			return time.Time{}
		}
		return *d.Until
	}
	assert.True(t, slices.IsSortedFunc(all, func(a, b api.Due) int { return ends(a).Compare(ends(b)) }),
		"what ends first in front")
	find := func(label string) api.Due {
		i := slices.IndexFunc(all, func(d api.Due) bool { return d.Label == label })
		require.GreaterOrEqual(t, i, 0, label)
		return all[i]
	}
	assert.Equal(t, "expired", find("cranes.tarnholm.example").State)
	assert.Equal(t, "expires-soon", find("berths.tarnholm.example").State)
	assert.Equal(t, "renewal-due", find("mooring.tarnholm.example").State)
	most := slices.MaxFunc(all, func(a, b api.Due) int { return a.More - b.More })
	assert.Equal(t, lifetime.Intermediate, most.Kind)
	assert.Greater(t, most.More, 20, "many endpoints have it, and five are told")
	assert.Len(t, most.Places, 5)
	tides := find("tides.tarnholm.example")
	assert.True(t, tides.Public, "its issuers lead to a public root")
	assert.NotNil(t, tides.Places[0].EndpointID)

	t.Run("filters", func(t *testing.T) {
		for query, want := range map[string]int{"state=expires-soon": 1, "q=CRANES.tarnholm": 1, "q=nowhere.example": 0,
			"kind=leaf&until=1900-01-01": 2, "state=renewal-due&renew=1d": 0} {
			var page api.DuePage
			get(t, "/expiry?"+query, &page)
			assert.Equal(t, want, page.Total, query)
			assert.NotNil(t, page.Items)
		}
		for _, query := range []string{"renew=never", "from=tomorrow", "until=2026", "kind=house", "cursor=-1",
			"cursor=x"} {
			status, _, _ := send(t, "GET", api.Base+"/expiry?"+query, "", nil)
			assert.Equal(t, 422, status, query)
		}
	})
	t.Run("timeline", func(t *testing.T) {
		var line api.Timeline
		get(t, "/expiry/timeline", &line)
		count := line.Past + line.Later
		for _, d := range line.Days {
			count += d.Count
			assert.NotEmpty(t, d.Labels)
			assert.NotNil(t, d.Place)
		}
		assert.Equal(t, len(all), count, "nothing is lost")
		get(t, "/expiry/timeline?from=2020-01-01&until=2020-01-02", &line)
		assert.Empty(t, line.Days)
		status, _, _ := send(t, "GET", api.Base+"/expiry/timeline?from=2020-01-02&until=2020-01-01", "", nil)
		assert.Equal(t, 422, status)
	})
	t.Run("forecast", func(t *testing.T) {
		var f lifetime.Forecast
		get(t, "/expiry/forecast?minutes=60", &f)
		assert.Equal(t, "2029-12", f.Months[len(f.Months)-1].Month)
		today, coming := 0, 0
		for _, m := range f.Months {
			today, coming = today+m.Today, coming+m.Coming
			assert.InDelta(t, float64(m.Coming), m.ComingHours, 1e-9)
		}
		assert.Greater(t, coming, today, "shorter lifetimes bring more renewals")
		assert.NotNil(t, f.DoublesComing)
	})
	t.Run("calendar", func(t *testing.T) {
		calendar := func() string {
			response, err := http.Get(shared.address + api.Base + "/expiry/calendar?q=tides.tarnholm")
			require.NoError(t, err)
			defer response.Body.Close()
			assert.Equal(t, "text/calendar; charset=utf-8", response.Header.Get("Content-Type"))
			text, err := io.ReadAll(response.Body)
			require.NoError(t, err)
			return string(text)
		}
		first := calendar()
		assert.Contains(t, first, "SUMMARY:Renew tides.tarnholm.example")
		assert.Contains(t, first, tides.SHA256.String()+"@nurvik")
		assert.Equal(t, first, calendar(), "the same data give the same calendar")
	})
	t.Run("what is gone is not due", func(t *testing.T) {
		list, err := shared.client.FindEndpoint(t.Context(), "cranes.tarnholm.example:443")
		require.NoError(t, err)
		status, _, _ := send(t, "DELETE", api.Base+"/endpoints/"+strconv.FormatInt(list.ID, 10), "",
			map[string]string{"Content-Type": "application/json"})
		assert.Equal(t, 204, status)
		var page api.DuePage
		get(t, "/expiry?q=cranes.tarnholm", &page)
		assert.Zero(t, page.Total)
	})
}

func TestCoverageOfEstate(t *testing.T) {
	importHarbour(t)
	auditOf(t, api.AuditStart{})
	var c api.Coverage
	get(t, "/coverage?name=tides.tarnholm.example&name=low.tides.tarnholm.example", &c)
	assert.False(t, c.Covered)
	require.Len(t, c.Needed, 2)
	assert.NotEmpty(t, c.Needed[0].Covered)
	assert.Empty(t, c.Needed[1].Covered)
	assert.NotEmpty(t, c.Needed[1].Missed)
	e, err := shared.client.FindEndpoint(t.Context(), "tides.tarnholm.example:443")
	require.NoError(t, err)
	get(t, "/endpoints/"+strconv.FormatInt(e.ID, 10)+"/coverage", &c)
	assert.True(t, c.Covered)
	assert.Equal(t, "tides.tarnholm.example", c.Needed[0].Covered[0].Entry)
	get(t, "/coverage?name=else.example&endpoint_id="+strconv.FormatInt(e.ID, 10), &c)
	assert.False(t, c.Covered)
	assert.Equal(t, []string{"tides.tarnholm.example"}, c.Certificates[0].Unneeded)
	for path, want := range map[string]int{"/coverage": 422, "/coverage?name=a%20b": 422,
		"/endpoints/999999/coverage": 404} {
		status, _, body := send(t, "GET", api.Base+path, "", nil)
		assert.Equal(t, want, status, path)
		assert.False(t, strings.Contains(body, "a b/"), "nothing is echoed")
	}
}
