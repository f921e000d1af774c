-- An estate, each endpoint of it with ten findings and fifty sightings. References are not checked, and the triggers are
-- off: what they write is written here. Lists are read as if they were there.
DO $$
DECLARE r record; BEGIN
    FOR r IN SELECT conrelid::regclass AS relation, conname FROM pg_constraint WHERE contype = 'f'
            AND conrelid IN ('findings'::regclass, 'sightings'::regclass, 'certificates'::regclass, 'places'::regclass)
    LOOP
        EXECUTE format('ALTER TABLE %s DROP CONSTRAINT %I', r.relation, r.conname);
    END LOOP;
END $$;

ALTER TABLE findings DISABLE TRIGGER USER;

-- Indexes are made at the end, which is many times faster.
CREATE TEMP TABLE dropped AS SELECT indexrelid::regclass::text AS name, pg_get_indexdef(indexrelid) AS definition
FROM pg_index WHERE NOT indisunique AND indrelid IN ('endpoints'::regclass, 'findings'::regclass, 'sightings'::regclass,
    'certificates'::regclass, 'places'::regclass);
DO $$
DECLARE r record; BEGIN
    FOR r IN SELECT name FROM dropped LOOP EXECUTE 'DROP INDEX ' || r.name; END LOOP;
END $$;

TRUNCATE endpoints, holdings, audits, keys, certificates, places, sightings, findings, finding_places, activity CASCADE;

INSERT INTO audits (id, state, created_at, finished_at)
SELECT g, 'finished', now() - make_interval(days => 400 - g), now() - make_interval(days => 400 - g) + interval '1 hour'
FROM generate_series(1, 400) g;

INSERT INTO activity (at, who, through, address, operation, object, status)
SELECT now() - make_interval(secs => g), 'harbour-master', 'session', '192.0.2.1', 'change-endpoint', g::text, 200
FROM generate_series(1, {{ENDPOINTS}} / 10) g;

INSERT INTO endpoints (id, target, settings, created_at, updated_at, audit_id, verdict, judged_by, not_after, issuer, faults,
    risks, codes, judged_at)
SELECT g, 'berth-' || md5(g::text) || '.tarnholm.example:443',
    jsonb_build_object('endpoint', 'berth-' || md5(g::text) || '.tarnholm.example:443', 'labels',
        jsonb_build_object('owner', 'crew ' || g % 200, 'quay', 'quay ' || g % 5000)),
    now(), now(), 400, (ARRAY['sound', 'sound', 'sound', 'at-risk', 'at-risk', 'faulty', 'unreachable'])[1 + g % 7],
    'open-web', now() + make_interval(hours => g % 9000 - 500), 'Skerry Issuing ' || g % 300, g % 3, g % 2,
    '["chain.incomplete"]', now()
FROM generate_series(1, {{ENDPOINTS}}) g;

INSERT INTO holdings (id, name, policy, sent_at)
SELECT g, 'machine-' || md5(g::text), 'open-web', now() FROM generate_series(1, 1000) g;

INSERT INTO findings (id, endpoint_id, code, severity, finding, state, first_seen, last_seen, gone_at, waived, audit_id,
    cause, cause_about, sort_key, search)
SELECT id, endpoint_id, code, severity, jsonb_build_object('code', code, 'severity', severity, 'about', about, 'message',
        message, 'remedy', 'Install the file with the whole chain.'), state, now() - interval '90 days', now(),
    CASE state WHEN 'gone' THEN now() END, waived, 400, code || ' ' || endpoint_id % 3000, about,
    CASE WHEN waived THEN '5' WHEN severity = 'fault' THEN '1' WHEN severity = 'risk' THEN '2' ELSE '4' END || ' ' || target ||
        ' ' || code || ' ' || about || ' ' || id, target || E'\n' || message
FROM (SELECT md5(e.id::text || ' ' || n) AS id, e.id AS endpoint_id, e.target,
        (ARRAY['chain.incomplete', 'time.expiring', 'suite.weak-cipher', 'proto.obsolete', 'http.no-redirect', 'key.too-short',
            'trust.unknown-anchor', 'name.uncovered', 'revoke.unreachable', 'deploy.not-reloaded'])[n] AS code,
        (ARRAY['fault', 'risk', 'risk', 'note', 'note', 'note', 'fault', 'risk', 'note', 'risk'])[n] AS severity,
        (ARRAY['standing', 'standing', 'gone', 'standing', 'new', 'gone', 'back'])[1 + (e.id + n) % 7] AS state,
        (e.id + n) % 50 = 0 AS waived, 'Skerry Issuing ' || e.id % 300 AS about,
        'The certificate of ' || e.target || ' at quay ' || e.id % 5000 || ' is not as it should be.' AS message
    FROM endpoints e, generate_series(1, 10) n) f;

INSERT INTO keys (spki_sha256, kind, first_seen, last_seen)
SELECT encode(sha256(('key ' || g)::bytea), 'hex'), 'EC P-256', now(), now() FROM generate_series(1, {{ENDPOINTS}}) g;

INSERT INTO certificates (sha256, spki_sha256, der, subject, issuer, serial, names, authority, not_before, not_after,
    first_seen, last_seen)
SELECT encode(sha256(('certificate ' || g || ' ' || n)::bytea), 'hex'), encode(sha256(('key ' || g)::bytea), 'hex'), '\x30',
    'CN=' || e.target, 'Skerry Issuing ' || g % 300, md5('serial ' || g || n), ARRAY[split_part(e.target, ':', 1)], false,
    now() - make_interval(days => 90 * n), now() + make_interval(days => 200 - 90 * n), now(), now()
FROM endpoints e, LATERAL (SELECT e.id AS g) x, generate_series(0, 4) n;

INSERT INTO places (id, kind, endpoint_id, address, server_name)
SELECT 10 * e.id + n, 'address', e.id, '192.0.2.' || n || ':443', 'berth' FROM endpoints e, generate_series(0, 9) n;

INSERT INTO sightings (place_id, kind, position, certificate, spki_sha256, first_seen, last_seen)
SELECT p.id, 'certificate', 0, encode(sha256(('certificate ' || p.endpoint_id || ' ' || n)::bytea), 'hex'),
    encode(sha256(('key ' || p.endpoint_id)::bytea), 'hex'), now() - make_interval(days => 90 * n + 90),
    now() - make_interval(days => 90 * n)
FROM places p, generate_series(0, 4) n;

DO $$
DECLARE r record; BEGIN
    SET LOCAL maintenance_work_mem = '512MB';
    FOR r IN SELECT definition FROM dropped LOOP EXECUTE r.definition; END LOOP;
END $$;

ALTER TABLE findings ENABLE TRIGGER USER;

SELECT causes_recount();

ANALYZE;
