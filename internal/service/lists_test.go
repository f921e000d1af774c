package service_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/endpoint"
	"nurvik/internal/service/store"
)

// TestListsAreKept: what lists are ordered and searched by follows every change of what they show.
func TestListsAreKept(t *testing.T) {
	t.Parallel()
	server, data := other(t)
	s, err := store.Open(t.Context(), server.URL(), server.Dial)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	add := func(target string, labels map[string]string) store.Endpoint {
		e := store.Endpoint{Target: target, Settings: endpoint.Settings{Endpoint: target, Labels: labels},
			CreatedAt: time.Now(), UpdatedAt: time.Now(), Latest: store.Latest{Codes: []string{}}}
		require.NoError(t, s.AddEndpoint(t.Context(), &e))
		return e
	}
	first := add("anchor.tarnholm.example:443", map[string]string{"about": `the "old" quay \ east, 50%`})
	add("buoy.tarnholm.example:443", map[string]string{"about": "café on the pier"})
	for text, want := range map[string]int{`"old"`: 1, `quay \ e`: 1, "50%": 1, "%": 1, "CAFÉ": 1, "the": 2, "e\nt": 0,
		"about": 0, "_": 0, "tarnholm.example": 2, "x": 2} {
		found, _, err := s.Endpoints(t.Context(), store.EndpointQuery{Search: text, Limit: 10})
		require.NoError(t, err)
		assert.Len(t, found, want, text)
	}
	execute(t, data, `INSERT INTO findings (id, endpoint_id, code, severity, finding, state, first_seen, last_seen)
		SELECT code || e.id, e.id, code, severity, jsonb_build_object('about', repeat('long ', 3000), 'message',
			'The chain is short.'), 'new', now(), now() FROM endpoints e,
			(VALUES ('chain.incomplete', 'fault'), ('proto.obsolete', 'note')) AS f (code, severity)`)
	list := func(q store.FindingQuery) (out []string) {
		q.Limit = 10
		rows, _, err := s.Findings(t.Context(), q)
		require.NoError(t, err)
		for _, r := range rows {
			out = append(out, r.Target[:5]+r.Code)
		}
		return out
	}
	assert.Equal(t, []string{"anchochain.incomplete", "buoy.chain.incomplete", "anchoproto.obsolete",
		"buoy.proto.obsolete"}, list(store.FindingQuery{}))

	first.Target = "crane.tarnholm.example:443"
	first.Settings.Endpoint = first.Target
	require.NoError(t, s.ChangeEndpoint(t.Context(), &first, ""))
	assert.Equal(t, []string{"buoy.chain.incomplete", "cranechain.incomplete", "buoy.proto.obsolete",
		"craneproto.obsolete"}, list(store.FindingQuery{}))
	assert.Equal(t, []string{"cranechain.incomplete", "craneproto.obsolete"}, list(store.FindingQuery{Search: "CRANE"}))
	assert.Empty(t, list(store.FindingQuery{Search: "anchor"}))
	assert.Len(t, list(store.FindingQuery{Search: "chain is sh"}), 4)

	execute(t, data, "UPDATE findings SET waived = true WHERE code = 'chain.incomplete' AND endpoint_id = "+
		"(SELECT min(id) FROM endpoints)")
	assert.Equal(t, []string{"buoy.chain.incomplete", "buoy.proto.obsolete", "craneproto.obsolete",
		"cranechain.incomplete"}, list(store.FindingQuery{}), "what is waived comes last")
	causes, _, err := s.Causes(t.Context(), store.CauseQuery{Search: "the chain", Limit: 10})
	require.NoError(t, err)
	require.Len(t, causes, 2)
	assert.Equal(t, []any{"chain.incomplete", 1, "The chain is short."},
		[]any{causes[0].Code, causes[0].Endpoints, causes[0].Message})
}
