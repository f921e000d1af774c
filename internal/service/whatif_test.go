package service_test

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/judge"
	"nurvik/core/pki"
	"nurvik/internal/api"
	"nurvik/internal/client"
)

// recordOf is everything of the record that a what-if must leave alone.
func recordOf(t *testing.T) string {
	t.Helper()
	endpoints, err := shared.client.Endpoints(t.Context(), client.EndpointFilter{})
	require.NoError(t, err)
	var all []api.Finding
	for _, state := range []string{"", "gone"} {
		findings, err := shared.client.Findings(t.Context(), client.FindingFilter{State: state})
		require.NoError(t, err)
		all = append(all, findings...)
	}
	text, err := json.Marshal([]any{endpoints, all})
	require.NoError(t, err)
	return string(text)
}

// TestWhatIf asks about everything that may be otherwise; the record stays as it is.
func TestWhatIf(t *testing.T) {
	importHarbour(t)
	holdings, err := shared.client.Holdings(t.Context())
	require.NoError(t, err)
	for _, h := range holdings { // they are judged anew soon after each audit, which is a change of the record
		require.NoError(t, shared.client.RemoveHolding(t.Context(), h.ID))
	}
	auditOf(t, api.AuditStart{})
	before := recordOf(t)
	estate, err := shared.client.Export(t.Context())
	require.NoError(t, err)
	outer := slices.IndexFunc(estate.Stores, func(s api.TrustStore) bool { return s.Name == "outer" })
	root := fingerprintOf(t, estate.Stores[outer].Anchors[0].DER)
	later := time.Now().AddDate(2, 0, 0)
	tests := []struct {
		name     string
		start    api.WhatIfStart
		worst    judge.Severity
		endpoint string
		appears  string // code and severity
		goes     string
	}{
		{"in two years", api.WhatIfStart{At: &later}, judge.Fault, "tides.tarnholm.example:443", "time.expired fault",
			""},
		{"by a built-in policy", api.WhatIfStart{Policy: "strict"}, judge.Fault, "capstan.tarnholm.example:443", "",
			""},
		{"by a policy that is sent",
			api.WhatIfStart{PolicyText: "name: modern\ninherits: open-web\nprotocols: {allowed: [TLS 1.3]}\n"}, "",
			"tides.tarnholm.example:443", "proto.obsolete risk", ""},
		{"without the root", api.WhatIfStart{Distrust: []string{root}}, judge.Fault, "tides.tarnholm.example:443",
			"trust.unknown-anchor fault", ""},
		{"where everything is forgiven",
			api.WhatIfStart{PolicyText: "name: mild\ninherits: open-web\nseverities: {time.*: \"off\"}\n"}, "",
			"cranes.tarnholm.example:443", "", "time.expired fault"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			view, err := shared.client.WhatIf(t.Context(), tt.start)
			require.NoError(t, err)
			require.Equal(t, "finished", view.State, view.Failure)
			if tt.worst != "" {
				assert.Equal(t, tt.worst, view.Answer.Worst)
			}
			i := slices.IndexFunc(view.Changes, func(c api.WhatIfEndpoint) bool { return c.Endpoint == tt.endpoint })
			if tt.appears+tt.goes != "" {
				require.GreaterOrEqual(t, i, 0, "%s would change", tt.endpoint)
				assert.Equal(t, tt.appears != "", slices.Contains(told(view.Changes[i].Appear), tt.appears),
					told(view.Changes[i].Appear))
				assert.Equal(t, tt.goes != "", slices.Contains(told(view.Changes[i].Go), tt.goes),
					told(view.Changes[i].Go))
				assert.NotEmpty(t, view.Changes[i].Basis.Catalogue)
			}
			assert.Equal(t, before, recordOf(t), "nothing of the record has moved")
			again, err := shared.client.GetWhatIf(t.Context(), view.ID)
			require.NoError(t, err)
			assert.Equal(t, view, again, "it is kept as a report of its own")
		})
	}
	list, err := shared.client.WhatIfs(t.Context(), 3)
	require.NoError(t, err)
	assert.Len(t, list, 3)
	require.NoError(t, shared.client.RemoveWhatIf(t.Context(), list[0].ID))
	_, err = shared.client.GetWhatIf(t.Context(), list[0].ID)
	assert.True(t, client.IsNotFound(err))
	for says, start := range map[string]api.WhatIfStart{
		"line 3: ":               {PolicyText: "name: x\ninherits: open-web\nsuits: {}\n"},
		"proto.":                 {PolicyText: "name: x\ninherits: open-web\nseverities: {proto.absolete: note}\n"},
		"not both":               {Policy: "strict", PolicyText: "name: x\n"},
		`no policy "moon"`:       {Policy: "moon"},
		"not in the estate":      {EndpointIDs: []int64{1e9}},
		"no SHA-256 fingerprint": {Distrust: []string{"moon"}},
	} {
		_, err := shared.client.WhatIf(t.Context(), start)
		assert.ErrorContains(t, err, says)
	}
}

func told(findings []judge.Finding) []string {
	var out []string
	for _, f := range findings {
		out = append(out, f.Code+" "+string(f.Severity))
	}
	return out
}

// TestPolicies: they are records with versions, assigned to endpoints, and say what they were judged by.
func TestPolicies(t *testing.T) {
	importHarbour(t)
	c, ctx := shared.client, t.Context()
	text := "name: winches\nabout: For the winches.\ninherits: open-web\nseverities: {proto.obsolete: note}\n" +
		"waivers: [{code: proto.none-current, reason: replaced in March, until: 2099-01-01}]\n"
	saved, err := c.SavePolicy(ctx, "winches", text)
	require.NoError(t, err)
	assert.Equal(t, 1, saved.Version)
	saved, err = c.SavePolicy(ctx, "winches", text)
	require.NoError(t, err)
	assert.Equal(t, 1, saved.Version, "the same text again is no new version")
	saved, err = c.SavePolicy(ctx, "winches", text+"\n# reviewed\n")
	require.NoError(t, err)
	assert.Equal(t, 2, saved.Version)
	old, err := c.Policy(ctx, "winches", 1)
	require.NoError(t, err)
	assert.Equal(t, text, old.Text)

	e, err := c.FindEndpoint(ctx, "winch.tarnholm.example:443")
	require.NoError(t, err)
	done := auditOf(t, api.AuditStart{EndpointIDs: []int64{e.ID}})
	assert.Equal(t, api.Verdicts{Faulty: 1}, done.Verdicts)
	settings := e.EndpointSettings
	settings.Policy = "winches"
	_, err = c.ChangeEndpoint(ctx, e.ID, settings)
	require.NoError(t, err)
	done = auditOf(t, api.AuditStart{EndpointIDs: []int64{e.ID}})
	assert.Equal(t, api.Verdicts{Sound: 1}, done.Verdicts)
	x, err := c.Examination(ctx, e.ID)
	require.NoError(t, err)
	assert.Equal(t, "winches", x.Endpoint.JudgedBy)
	assert.Equal(t, 2, x.Judgement.Basis.PolicyVersion)
	assert.Zero(t, x.Endpoint.Faults, "what is waived does not count")
	assert.Positive(t, x.Endpoint.Waived)
	assert.NotContains(t, x.Endpoint.Codes, "proto.none-current")
	waived, err := c.Findings(ctx, client.FindingFilter{EndpointID: e.ID, Waived: "yes"})
	require.NoError(t, err)
	require.Len(t, waived, 1)
	assert.Equal(t, "replaced in March", waived[0].Waived.Reason)

	assert.ErrorContains(t, c.RemovePolicy(ctx, "winches"), "assigned")
	assert.ErrorContains(t, c.RemovePolicy(ctx, "strict"), "built in")
	_, err = c.SavePolicy(ctx, "strict", strings.Replace(text, "winches", "strict", 1))
	assert.ErrorContains(t, err, "built in")
	_, err = c.SavePolicy(ctx, "other", text)
	assert.ErrorContains(t, err, "make them the same")
	_, err = c.SavePolicy(ctx, "x", "name: x\ninherits: open-web\nkeys: {modulus-fault-udner: 1}\n")
	assert.ErrorContains(t, err, "line 3: ")
	settings.Policy = ""
	_, err = c.ChangeEndpoint(ctx, e.ID, settings)
	require.NoError(t, err)
	require.NoError(t, c.RemovePolicy(ctx, "winches"))
	_, err = c.Policy(ctx, "winches", 0)
	assert.True(t, client.IsNotFound(err))
	list, err := c.Policies(ctx)
	require.NoError(t, err)
	assert.True(t, slices.ContainsFunc(list, func(p api.Policy) bool {
		return p.Name == "opportunistic" && p.Builtin &&
			p.About != ""
	}))
}

// TestAssignedPoliciesOfMail: where clients verify nothing the opportunistic policy holds, unless another is assigned.
func TestAssignedPoliciesOfMail(t *testing.T) {
	importHarbour(t)
	tests := []struct {
		name, target, policy string
		want                 api.Verdicts
	}{
		{"mail between servers", "mailbag.tarnholm.example:25", "", api.Verdicts{Sound: 1}},
		{"mail between servers, with a policy", "mailbag.tarnholm.example:25", "open-web", api.Verdicts{Faulty: 1}},
		{"declared to be authenticated", "valise.tarnholm.example:25", "", api.Verdicts{Faulty: 1}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			e, err := shared.client.FindEndpoint(t.Context(), tt.target)
			require.NoError(t, err)
			settings := e.EndpointSettings
			settings.Policy = tt.policy
			_, err = shared.client.ChangeEndpoint(t.Context(), e.ID, settings)
			require.NoError(t, err)
			assert.Equal(t, tt.want, auditOf(t, api.AuditStart{EndpointIDs: []int64{e.ID}}).Verdicts)
		})
	}
}

func fingerprintOf(t *testing.T, der []byte) string {
	t.Helper()
	return pki.FingerprintOf(der).String()
}
