package service_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/api"
)

// TestHistory: an endpoint remembers what changed, and audits without a change leave no trace in it.
func TestHistory(t *testing.T) {
	importHarbour(t)
	ctx, c := t.Context(), shared.client
	gate, err := c.FindEndpoint(ctx, "gate.tarnholm.example:443")
	require.NoError(t, err)
	none, err := c.History(ctx, gate.ID)
	require.NoError(t, err)
	before := len(none) // other tests have audited it
	audit := func() int64 { return auditOf(t, api.AuditStart{EndpointIDs: []int64{gate.ID}}).ID }
	settle := func(change func(*api.EndpointSettings)) {
		settings := gate.EndpointSettings
		change(&settings)
		_, err := c.ChangeEndpoint(ctx, gate.ID, settings)
		require.NoError(t, err)
	}
	audit()
	audit()
	tides, err := c.FindEndpoint(ctx, "tides.tarnholm.example:443")
	require.NoError(t, err)
	settle(func(s *api.EndpointSettings) { s.VisitAt = tides.VisitAt })
	moved := audit()
	audit()
	settle(func(s *api.EndpointSettings) { s.VisitAt = []string{"127.0.0.1:1"} })
	silent := audit()
	settle(func(*api.EndpointSettings) {})
	back := audit()

	of := " FROM examinations WHERE endpoint_id = " + jsonNumber(gate.ID)
	assert.Equal(t, 1, count(t, shared.data, "SELECT count(*)"+of+" AND facts IS NOT NULL"), "only the newest is whole")
	assert.Less(t, count(t, shared.data, "SELECT count(DISTINCT facts_id)"+of), count(t, shared.data,
		"SELECT count(facts_id)"+of), "what was alike is kept once")
	list, err := c.History(ctx, gate.ID)
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(list), before+3)
	assert.Equal(t, []int64{back, silent, moved}, []int64{list[0].AuditID, list[1].AuditID, list[2].AuditID})
	assert.Equal(t, []string{"It answers."}, list[0].Changes)
	assert.Equal(t, "unreachable", list[0].Before)
	assert.Equal(t, []string{"It no longer answers: refused."}, list[1].Changes)
	assert.Empty(t, list[1].Gone, "silence says nothing of certificates")
	assert.Contains(t, list[2].Changes, "No longer at "+gate.VisitAt[0]+".")
	assert.Contains(t, list[2].Appeared, "name.uncovered", "it is another's certificate")
	assert.True(t, list[len(list)-1].First)

	// Any two audits: what was in between makes no difference.
	d, err := c.Difference(ctx, gate.ID, moved, 0)
	require.NoError(t, err)
	assert.Equal(t, back, d.AuditID)
	assert.Contains(t, d.Changes, "Now also at "+gate.VisitAt[0]+".")
	assert.Contains(t, d.Gone, "name.uncovered")
	d, err = c.Difference(ctx, gate.ID, silent, silent)
	require.NoError(t, err)
	assert.Empty(t, d.Changes)
	d, err = c.Difference(ctx, gate.ID, moved, silent)
	require.NoError(t, err)
	assert.Equal(t, []string{"It no longer answers: refused."}, d.Changes)
	_, err = c.Difference(ctx, gate.ID, back, moved)
	assert.ErrorContains(t, err, "the second audit is before the first")
	_, err = c.Difference(ctx, 987654, moved, 0)
	assert.ErrorContains(t, err, "there is no such record")

	execute(t, shared.data, "UPDATE endpoints SET observed_at = now() + interval '1 day'")
	last := audit()
	gate, err = c.FindEndpoint(ctx, "gate.tarnholm.example:443")
	require.NoError(t, err)
	assert.Equal(t, last, *gate.AuditID, "a clock that was put back holds nothing up")

	var page api.HistoryPage
	get(t, "/endpoints/"+jsonNumber(gate.ID)+"/history?limit=2", &page)
	require.Len(t, page.Items, 2)
	get(t, "/endpoints/"+jsonNumber(gate.ID)+"/history?limit=1&cursor="+page.Next, &page)
	assert.Equal(t, moved, page.Items[0].AuditID)
	status, _, _ := send(t, "GET", "/api/v1/endpoints/"+jsonNumber(gate.ID)+"/history?cursor=x", "", nil)
	assert.Equal(t, 422, status)
	status, _, _ = send(t, "GET", "/api/v1/endpoints/987654/history", "", nil)
	assert.Equal(t, 404, status)
}
