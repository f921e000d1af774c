package service_test

import (
	"context"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/api"
	"nurvik/internal/client"
)

// TestWaivers: a person's waiver counts at once, in every later audit and what-if, and no longer than its day.
func TestWaivers(t *testing.T) {
	importHarbour(t)
	ctx, c := t.Context(), shared.client
	cranes, err := c.FindEndpoint(ctx, "cranes.tarnholm.example:443")
	require.NoError(t, err)
	tides, err := c.FindEndpoint(ctx, "tides.tarnholm.example:443")
	require.NoError(t, err)
	auditOf(t, api.AuditStart{EndpointIDs: []int64{cranes.ID, tides.ID}})
	now := func() (api.Endpoint, api.Finding) {
		x, err := c.Examination(ctx, cranes.ID)
		require.NoError(t, err)
		i := slices.IndexFunc(x.Findings, func(f api.Finding) bool { return f.Code == "time.expired" })
		require.GreaterOrEqual(t, i, 0)
		assert.Equal(t, string(x.Judgement.Verdict), x.Endpoint.Verdict)
		return x.Endpoint, x.Findings[i]
	}
	before, f := now()
	assert.Equal(t, "faulty", before.Verdict)
	until := time.Now().UTC().AddDate(0, 0, 7).Format(time.DateOnly)

	for name, tt := range map[string]struct {
		change func(*api.WaiverStart)
		words  string
	}{
		"an unknown code":     {func(w *api.WaiverStart) { w.Code = "time.expird" }, "time.expired"},
		"a day that is over":  {func(w *api.WaiverStart) { w.Until = "2020-01-01" }, "that day is over"},
		"for ever":            {func(w *api.WaiverStart) { w.Until = "2999-01-01" }, "two years at most"},
		"a reason that turns": {func(w *api.WaiverStart) { w.Reason = "known \u202e" }, "steers terminals"},
		"no reason":           {func(w *api.WaiverStart) { w.Reason = "  " }, "say why"},
		"two things": {func(w *api.WaiverStart) { w.EndpointID, w.Label = &cranes.ID, "a=b" },
			"about one endpoint"},
		"no label": {func(w *api.WaiverStart) { w.Label = "owner" }, "KEY=VALUE"},
		"nobody's": {func(w *api.WaiverStart) { w.EndpointID = new(int64(987654)) }, "somebody else"},
	} {
		w := api.WaiverStart{Code: "time.expired", Reason: "it is known", Until: until}
		tt.change(&w)
		_, err := c.AddWaiver(ctx, w)
		assert.ErrorContains(t, err, tt.words, name)
	}

	about := before.Labels["about"]
	require.NotEmpty(t, about)
	for name, want := range map[string]api.WaiverStart{
		"one endpoint": {EndpointID: &cranes.ID}, "a label": {Label: "about=" + about}, "everything": {},
	} {
		t.Run(name, func(t *testing.T) {
			want.Code, want.Reason, want.Until = "time.expired", "renewed on Thursday", until
			w, err := c.AddWaiver(ctx, want)
			require.NoError(t, err)
			assert.Equal(t, 7, w.Days)
			e, f := now()
			assert.NotEqual(t, "faulty", e.Verdict, "at once")
			assert.Equal(t, before.Waived+1, e.Waived)
			require.NotNil(t, f.Waived)
			assert.Equal(t, []string{"renewed on Thursday", until, "harbour-master"},
				[]string{f.Waived.Reason, f.Waived.Until, f.Waived.By})
			waived, err := c.Findings(ctx, client.FindingFilter{EndpointID: cranes.ID, Waived: "yes"})
			require.NoError(t, err)
			assert.NotEmpty(t, waived)
			auditOf(t, api.AuditStart{EndpointIDs: []int64{cranes.ID}})
			e, _ = now()
			assert.NotEqual(t, "faulty", e.Verdict, "and in the next audit")

			asked := func(days int) string {
				at := time.Now().AddDate(0, 0, days)
				view, err := c.WhatIf(ctx, api.WhatIfStart{EndpointIDs: []int64{cranes.ID}, At: &at})
				require.NoError(t, err)
				var codes []string
				for _, e := range view.Changes {
					for _, f := range e.Appear {
						if f.Counts() {
							codes = append(codes, f.Code)
						}
					}
				}
				return strings.Join(codes, " ")
			}
			assert.NotContains(t, asked(1), "time.expired", "while it holds")
			assert.Contains(t, asked(9), "time.expired", "and not after it")

			require.NoError(t, c.RemoveWaiver(ctx, w.ID))
			e, f = now()
			assert.Equal(t, "faulty", e.Verdict, "taken back, it counts again")
			assert.Nil(t, f.Waived)
		})
	}

	t.Run("for others", func(t *testing.T) {
		for _, w := range []api.WaiverStart{{EndpointID: &tides.ID}, {Label: "about=nothing"}} {
			w.Code, w.Reason, w.Until = "time.expired", "elsewhere", until
			added, err := c.AddWaiver(ctx, w)
			require.NoError(t, err)
			e, _ := now()
			assert.Equal(t, "faulty", e.Verdict)
			require.NoError(t, c.RemoveWaiver(ctx, added.ID))
		}
	})
	t.Run("until its day is over", func(t *testing.T) {
		w, err := c.AddWaiver(ctx, api.WaiverStart{Code: "time.expired", EndpointID: &cranes.ID, Reason: "x",
			Until: until})
		require.NoError(t, err)
		conn := connection(t, shared.data)
		defer conn.Close(context.Background())
		_, err = conn.Exec(ctx, "UPDATE waivers SET until = current_date - 1 WHERE id = $1", w.ID)
		require.NoError(t, err)
		require.Eventually(t, func() bool { e, _ := now(); return e.Verdict == "faulty" }, time.Minute,
			200*time.Millisecond, "it counts again by itself")
		list, err := c.Waivers(ctx)
		require.NoError(t, err)
		assert.Empty(t, list)
	})
	t.Run("acknowledged", func(t *testing.T) {
		seen, err := c.Acknowledge(ctx, f.ID, "renewals are on Thursday")
		require.NoError(t, err)
		assert.Equal(t, "harbour-master", seen.Acknowledged.By)
		auditOf(t, api.AuditStart{EndpointIDs: []int64{cranes.ID}})
		e, now := now()
		assert.Equal(t, "renewals are on Thursday", now.Acknowledged.Note)
		assert.Equal(t, "faulty", e.Verdict, "it counts as before")
		_, err = c.ForgetAcknowledgement(ctx, f.ID)
		require.NoError(t, err)
		_, err = c.Acknowledge(ctx, "none", "")
		assert.True(t, client.IsNotFound(err))
	})
}

// TestWaivedHolding: files of a holding, too.
func TestWaivedHolding(t *testing.T) {
	importHarbour(t)
	ctx, c := t.Context(), shared.client
	h, err := c.SendHolding(ctx, api.HoldingFacts{
		HoldingHeader: api.HoldingHeader{Name: "quay", Trust: []string{"outer"}},
		Files:         machine(t, "quay")}, nil)
	require.NoError(t, err)
	h, err = c.JudgedHolding(ctx, h.ID)
	require.NoError(t, err)
	view, err := c.Holding(ctx, h.ID)
	require.NoError(t, err)
	require.NotEmpty(t, view.Findings)
	worst := view.Findings[0]
	w, err := c.AddWaiver(ctx, api.WaiverStart{Code: worst.Code, HoldingID: &h.ID, Reason: "x",
		Until: time.Now().UTC().Format(time.DateOnly)})
	require.NoError(t, err)
	assert.Equal(t, h.Name, w.About)
	require.Eventually(t, func() bool {
		view, err = c.Holding(ctx, h.ID)
		return err == nil && !slices.Contains(view.Holding.Codes, worst.Code)
	}, time.Minute, 100*time.Millisecond)
	require.NoError(t, c.RemoveWaiver(ctx, w.ID))
	require.NoError(t, c.RemoveHolding(ctx, h.ID))
}
