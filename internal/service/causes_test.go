package service_test

import (
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/judge"
	"nurvik/internal/api"
	"nurvik/internal/client"
)

// TestCauses: every finding that counts has one cause, and the pages of causes lack none and have none twice.
func TestCauses(t *testing.T) {
	importHarbour(t)
	ctx, c := t.Context(), shared.client
	auditOf(t, api.AuditStart{})
	findings, err := c.Findings(ctx, client.FindingFilter{Waived: "no"})
	require.NoError(t, err)
	of := map[string]map[string]bool{} // the findings of each cause
	for _, f := range findings {
		require.NotEmpty(t, f.Cause, f.Code)
		if of[f.Cause] == nil {
			of[f.Cause] = map[string]bool{}
		}
		of[f.Cause][f.ID] = true
	}
	causes, err := c.Causes(ctx, client.CauseFilter{})
	require.NoError(t, err)
	assert.Len(t, causes, len(of))
	ranks := map[judge.Severity]int{judge.Fault: 1, judge.Risk: 2, judge.None: 3, judge.Note: 4}
	for i, x := range causes {
		assert.Len(t, of[x.ID], x.Findings, x.Code)
		assert.NotEmpty(t, x.Remedy+x.Title)
		if i == 0 {
			continue
		}
		before := causes[i-1]
		assert.LessOrEqual(t, ranks[before.Severity], ranks[x.Severity], "the worst come first")
		if before.Severity == x.Severity {
			assert.GreaterOrEqual(t, before.Endpoints+before.Holdings, x.Endpoints+x.Holdings,
				"and what is at many places")
		}
	}
	for cursor, n := "", 0; ; {
		var page api.CausePage
		get(t, "/causes?limit=7&cursor="+url.QueryEscape(cursor), &page)
		for _, x := range page.Items {
			require.Less(t, n, len(causes))
			assert.Equal(t, causes[n].ID, x.ID)
			n++
		}
		if cursor = page.Next; cursor == "" {
			assert.Equal(t, len(causes), n)
			break
		}
	}

	t.Run("of one owner, and of one label", func(t *testing.T) {
		for _, filter := range []client.CauseFilter{{Owner: "cable crew"}, {Label: "about=expired yesterday"},
			{Owner: "web crew", Severity: "risk", Search: "tarnholm"}} {
			mine, err := c.Findings(ctx, client.FindingFilter{Waived: "no", Owner: filter.Owner, Label: filter.Label,
				Severity: filter.Severity, Search: filter.Search})
			require.NoError(t, err)
			require.NotEmpty(t, mine)
			want, got := map[string]int{}, map[string]int{}
			for _, f := range mine {
				want[f.Cause]++
			}
			grouped, err := c.Causes(ctx, filter)
			require.NoError(t, err)
			for _, x := range grouped {
				got[x.ID] = x.Findings
			}
			assert.Equal(t, want, got, filter)
		}
		none, err := c.Causes(ctx, client.CauseFilter{Owner: "nobody at all"})
		require.NoError(t, err)
		assert.Empty(t, none)
		assert.Equal(t, 422, status(second(c.Causes(ctx, client.CauseFilter{Label: "about"}))))
	})

	incomplete, err := c.Causes(ctx, client.CauseFilter{Code: "chain.incomplete", Search: "ferries"})
	require.NoError(t, err)
	require.Len(t, incomplete, 1)
	assert.Equal(t, 1, incomplete[0].Findings, "of those that are searched for")
	assert.Equal(t, "Skerry Outer Issuing, Skerry Outer Services", incomplete[0].About)
	same, err := c.Findings(ctx, client.FindingFilter{Cause: incomplete[0].ID})
	require.NoError(t, err)
	require.Len(t, same, 3, "one intermediate is missing at three endpoints")
	_, err = c.Acknowledge(ctx, same[0].ID, "on the list")
	require.NoError(t, err)
	incomplete, err = c.Causes(ctx, client.CauseFilter{Code: "chain.incomplete", Severity: "fault"})
	require.NoError(t, err)
	assert.Equal(t, []int{3, 3, 0, 1}, []int{incomplete[0].Findings, incomplete[0].Endpoints, incomplete[0].Holdings,
		incomplete[0].Acknowledged})
	assert.Empty(t, incomplete[0].Message, "each names its own leaf")
	waived, err := c.Causes(ctx, client.CauseFilter{Waived: true, Code: "chain.incomplete"})
	require.NoError(t, err)
	assert.Empty(t, waived)
}
