package service_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/service/jobs"
	"nurvik/internal/service/store"
	"nurvik/internal/vantage"
)

// aged is an estate that was audited 500 days ago and yesterday. The second endpoint was audited only then, the third
// one is at an address where something else was seen before.
const aged = `
	INSERT INTO endpoints (id, target, settings, created_at, updated_at)
		SELECT n, n || '.tarnholm.example:443', '{}', now(), now() FROM generate_series(1, 3) n;
	INSERT INTO audits (id, state, created_at, finished_at) VALUES
		(1, 'finished', now() - interval '500 days', now() - interval '500 days'),
		(2, 'finished', now() - interval '499 days', now() - interval '499 days'),
		(3, 'finished', now() - interval '1 day', now() - interval '1 day'),
		(4, 'visiting', now() - interval '600 days', NULL);
	INSERT INTO contents (id, digest, body) SELECT n, sha256(n::text::bytea), '{}' FROM generate_series(1, 4) n;
	INSERT INTO examinations (audit_id, endpoint_id, stage, facts_id, findings_id)
		VALUES (1, 1, 'closed', 1, 2), (2, 1, 'closed', 1, 2), (3, 1, 'closed', 3, 2),
			(1, 2, 'closed', NULL, NULL), (3, 3, 'closed', NULL, NULL), (4, 3, 'planned', NULL, NULL);
	UPDATE endpoints SET audit_id = CASE id WHEN 2 THEN 1 ELSE 3 END;
	INSERT INTO findings (id, endpoint_id, code, severity, finding, state, first_seen, last_seen, gone_at) VALUES
		('gone', 1, 'a.b', 'fault', '{}', 'gone', now() - interval '600 days', now() - interval '600 days',
			now() - interval '500 days'),
		('gone lately', 1, 'a.b', 'fault', '{}', 'gone', now() - interval '600 days', now() - interval '600 days',
			now() - interval '1 day'),
		('standing', 2, 'a.b', 'fault', '{}', 'standing', now() - interval '600 days',
			now() - interval '500 days', NULL);
	INSERT INTO keys (spki_sha256, kind, first_seen, last_seen)
		SELECT repeat(n::text, 64), 'EC P-256', now() - interval '600 days', now() - interval '500 days'
		FROM generate_series(1, 6) n;
	INSERT INTO certificates (sha256, spki_sha256, der, subject, issuer, serial, names, authority, not_after,
			first_seen, last_seen)
		SELECT repeat(n::text, 64), repeat(n::text, 64), '', '', '', '', '{}', n >= 4,
			now() + (CASE n WHEN 4 THEN 100 ELSE -450 END) * interval '1 day', now() - interval '600 days',
			now() - interval '500 days'
		FROM generate_series(1, 5) n;
	INSERT INTO places (id, kind, endpoint_id, address)
		SELECT n, 'address', n, '192.0.2.1:443' FROM generate_series(1, 3) n;
	INSERT INTO sightings (place_id, kind, position, certificate, spki_sha256, first_seen, last_seen) VALUES
		(1, 'certificate', 0, repeat('1', 64), repeat('1', 64), now() - interval '600 days',
			now() - interval '500 days'),
		(1, 'certificate', 0, repeat('2', 64), repeat('2', 64), now() - interval '499 days', now()),
		(2, 'certificate', 0, repeat('3', 64), repeat('3', 64), now() - interval '600 days',
			now() - interval '500 days');
	INSERT INTO waivers (code, reason, until, by_name, created_at, ended_at)
		VALUES ('a.b', 'old', now() - interval '500 days', 'x', now(), now() - interval '499 days'),
			('a.b', 'lately', now(), 'x', now(), now()), ('a.b', 'holds', now(), 'x', now(), NULL);
	INSERT INTO what_ifs (state, question, created_at, finished_at)
		VALUES ('finished', '{}', now(), now() - interval '500 days'), ('judging', '{}', now() - interval '500 days', NULL)`

// TestOldRecords: what is old goes, and what the estate shows now stays, however old.
func TestOldRecords(t *testing.T) {
	t.Parallel()
	server, data := other(t)
	s, err := store.Open(t.Context(), server.URL(), server.Dial)
	require.NoError(t, err)
	defer s.Close()
	network, err := vantage.Network(vantage.NameServer{})
	require.NoError(t, err)
	q, err := jobs.Open(t.Context(), s, jobs.Options{Instance: "quay", Network: network, Log: silent,
		Now: s.Clock.Stamp, Keep: 400 * 24 * time.Hour})
	require.NoError(t, err)
	execute(t, data, aged)
	for range 2 { // the second time there is nothing to do
		require.NoError(t, q.RemoveOld(t.Context()))
	}
	tests := []struct {
		name, query, want string
	}{
		{"the newest examination of the endpoint that was audited last long ago",
			"SELECT string_agg(audit_id || '/' || endpoint_id, ' ' ORDER BY audit_id, endpoint_id) FROM examinations",
			"1/2 3/1 3/3 4/3"},
		{"the audits of those", "SELECT string_agg(id::text, ' ' ORDER BY id) FROM audits", "1 3 4"},
		{"what is not gone, or went lately", "SELECT string_agg(id, ', ' ORDER BY id) FROM findings",
			"gone lately, standing"},
		{"what was seen last",
			"SELECT string_agg(left(certificate, 1), ' ' ORDER BY certificate) FROM sightings", "2 3"},
		{"certificates that were seen, and a CA's that has not expired",
			"SELECT string_agg(left(sha256, 1), ' ' ORDER BY sha256) FROM certificates", "2 3 4"},
		{"their keys", "SELECT string_agg(left(spki_sha256, 1), ' ' ORDER BY spki_sha256) FROM keys", "2 3 4"},
		{"waivers", "SELECT string_agg(reason, ' ' ORDER BY reason) FROM waivers", "holds lately"},
		{"what-ifs", "SELECT string_agg(state, ' ') FROM what_ifs", "judging"},
		{"contents that something refers to", "SELECT string_agg(id::text, ' ' ORDER BY id) FROM contents", "2 3"},
	}
	conn := connection(t, data)
	defer conn.Close(t.Context())
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			var got string
			require.NoError(t, conn.QueryRow(t.Context(), tt.query).Scan(&got))
			assert.Equal(t, tt.want, got)
		})
	}
}

// TestSmallExaminations: an endpoint at which nothing changes costs less than 200 bytes an audit, with all indexes.
func TestSmallExaminations(t *testing.T) {
	t.Parallel()
	server, data := other(t)
	s, err := store.Open(t.Context(), server.URL(), server.Dial)
	require.NoError(t, err)
	defer s.Close()
	execute(t, data, `
		INSERT INTO endpoints (id, target, settings, created_at, updated_at)
			SELECT n, n || '.tarnholm.example:443', '{}', now(), now() FROM generate_series(1, 100) n;
		INSERT INTO audits (id, state, created_at, finished_at)
			SELECT n, 'finished', now(), now() FROM generate_series(1, 101) n;
		UPDATE endpoints SET audit_id = 101;
		INSERT INTO examinations (audit_id, endpoint_id, stage, verdict, facts, judgement)
			SELECT a.id, e.id, 'closed', 'at-risk', jsonb_build_object('endpoint', e.target, 'observations',
					jsonb_build_array(jsonb_build_object('at', now() + a.id * interval '1 day',
						'certificates', '[]'::jsonb))),
				jsonb_build_object('target', e.target, 'basis', jsonb_build_object('policy', a.id::text),
					'findings', '[{"code": "a.b", "subject": "c"}]'::jsonb)
			FROM audits a, endpoints e`)
	require.NoError(t, s.Tx(t.Context(), func(tx *store.Tx) error {
		ids := make([]int64, 100)
		for i := range ids {
			ids[i] = int64(i + 1)
		}
		return tx.Condense(101, ids)
	}))
	assert.Equal(t, 100, count(t, data, "SELECT count(*) FROM examinations WHERE facts IS NOT NULL"),
		"the newest is whole")
	assert.Equal(t, 200, count(t, data, "SELECT count(*) FROM contents"), "all others are alike")
	history, err := s.History(t.Context(), 7, 0, 3)
	require.NoError(t, err)
	assert.Equal(t, "7.tarnholm.example:443", history[2].Facts.Endpoint)
	assert.Equal(t, "a.b", history[2].Judgement.Findings[0].Code)
	execute(t, data, "DELETE FROM examinations WHERE facts IS NOT NULL")
	execute(t, data, "VACUUM FULL examinations")
	size := count(t, data, "SELECT pg_total_relation_size('examinations') / (SELECT count(*) FROM examinations)")
	t.Log(size, "bytes an examination")
	assert.Less(t, size, 200)
}
