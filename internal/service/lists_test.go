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
	execute(t, data, `INSERT INTO findings (id, endpoint_id, code, cause, severity, finding, state, first_seen,
		last_seen) SELECT code || e.id, e.id, code, code, severity, jsonb_build_object('about', repeat('long ', 3000),
			'message', 'The chain is short.'), 'new', now(), now() FROM endpoints e,
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
	require.Zero(t, miscounted(t, data))
	causes, _, err := s.Causes(t.Context(), store.CauseQuery{Search: "the chain", Limit: 10})
	require.NoError(t, err)
	require.Len(t, causes, 2)
	assert.Equal(t, []any{"chain.incomplete", 1, "The chain is short."},
		[]any{causes[0].Code, causes[0].Endpoints, causes[0].Message})
}

// TestCausesAreCounted: whatever happens to findings, causes are counted as if they were counted now.
func TestCausesAreCounted(t *testing.T) {
	t.Parallel()
	server, data := other(t)
	s, err := store.Open(t.Context(), server.URL(), server.Dial)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	execute(t, data, `INSERT INTO endpoints (id, target, settings, created_at, updated_at)
		SELECT g, 'berth-' || g || '.tarnholm.example:443', '{}', now(), now() FROM generate_series(1, 30) g`)
	execute(t, data, "INSERT INTO policies (name, builtin, updated_at) VALUES ('open-web', true, now()) "+
		"ON CONFLICT DO NOTHING")
	execute(t, data, "INSERT INTO holdings (id, name, policy, sent_at) SELECT g, 'hold ' || g, 'open-web', now() "+
		"FROM generate_series(1, 3) g")
	finding := func(columns, rows string) string {
		return "INSERT INTO findings (id, " + columns + `, code, cause, severity, waived, finding, state, gone_at, first_seen,
			last_seen) SELECT * FROM (` + rows + ") AS r"
	}
	// A place has the findings of a code in one severity, that of its policy.
	const rest = `, 'code.' || g % 3, 'cause ' || g % 3 || g % 2, (ARRAY['fault', 'risk', 'note', 'none'])[1 + g % 3],
		g % 7 = 0, jsonb_build_object('message', 'm ' || g % 5, 'remedy', 'Repair it.'),
		CASE WHEN g % 5 = 0 THEN 'gone' ELSE 'standing' END, CASE WHEN g % 5 = 0 THEN now() END, now(), now()
		FROM generate_series(1, 300) g`
	steps := []struct{ name, do string }{
		{"found at endpoints", finding("endpoint_id", "SELECT 'e' || g, 1 + g % 30"+rest)},
		{"found in holdings", finding("holding_id", "SELECT 'h' || g, 1 + g % 3"+rest)},
		{"seen again", "UPDATE findings SET last_seen = now()"},
		{"gone", "UPDATE findings SET state = 'gone', gone_at = now() WHERE endpoint_id % 4 = 1 AND state <> 'gone'"},
		{"back and new in one statement", finding("endpoint_id", "SELECT 'e' || g + 150, 1 + g % 30"+rest) +
			" ON CONFLICT (id) DO UPDATE SET state = 'back', gone_at = NULL, cause = excluded.cause"},
		{"another severity", "UPDATE findings SET severity = 'fault' WHERE holding_id = 2"},
		{"waived, and not any more", "UPDATE findings SET waived = NOT waived WHERE code = 'code.1'"},
		{"another cause", "UPDATE findings SET cause = 'cause 00' WHERE endpoint_id = 7"},
		{"acknowledged", `UPDATE findings SET acknowledged = '{"by": "harbour-master"}' WHERE id LIKE '%1'`},
		{"taken back", "UPDATE findings SET acknowledged = 'null' WHERE id LIKE '%11'"},
		{"an endpoint is removed", "DELETE FROM endpoints WHERE id % 3 = 0"},
		{"a holding is removed", "DELETE FROM holdings WHERE id = 1"},
		{"all of a cause", "DELETE FROM findings WHERE cause = 'cause 00'"},
	}
	for _, step := range steps {
		execute(t, data, step.do)
		require.Zero(t, miscounted(t, data), step.name)
		for _, severity := range []string{"", "fault"} {
			q := store.CauseQuery{Severity: severity, Limit: 50}
			counted, _, err := s.Causes(t.Context(), q)
			require.NoError(t, err, step.name)
			q.Search = "M " // all have it
			searched, _, err := s.Causes(t.Context(), q)
			require.NoError(t, err, step.name)
			assert.Equal(t, searched, counted, "%s: the list is the one that is counted now", step.name)
		}
	}
	execute(t, data, "SELECT causes_recount()")
	require.Zero(t, miscounted(t, data))
	execute(t, data, "DELETE FROM endpoints")
	execute(t, data, "DELETE FROM holdings")
	assert.Zero(t, count(t, data, "SELECT (SELECT count(*) FROM causes) + (SELECT count(*) FROM cause_places)"))
}

// miscounted is how many causes are not as counting them now makes them.
func miscounted(t *testing.T, data string) int {
	t.Helper()
	return count(t, data, `WITH now AS (
		SELECT cause, code, waived, l.severity, min(cause_rank(f.severity)) AS worst, count(*) AS findings,
			count(DISTINCT endpoint_id) AS endpoints, count(DISTINCT holding_id) AS holdings,
			count(*) FILTER (WHERE acknowledged <> 'null') AS acknowledged
		FROM findings f, LATERAL (VALUES (f.severity), ('')) AS l (severity) WHERE state <> 'gone' GROUP BY 1, 2, 3, 4
	), kept AS (
		SELECT cause, code, waived, severity, worst, findings, endpoints, holdings, acknowledged FROM causes
	)
	SELECT count(*) FROM ((TABLE now EXCEPT TABLE kept) UNION ALL (TABLE kept EXCEPT TABLE now)) x`)
}
