-- +goose Up

-- Causes are counted as findings come and go, so that nobody counts when they are asked for. A cause has one row for each
-- severity of its findings, and one for all of them, whose severity is ''. A place has the findings of a cause in one
-- severity, that of its policy, so the places of all are the sum. A cause is of one code.
UPDATE findings SET cause = code WHERE cause = ''; -- from before there were causes
CREATE TABLE causes (
    cause        text NOT NULL,
    code         text NOT NULL,
    waived       boolean NOT NULL,
    severity     text NOT NULL,
    worst        text NOT NULL, -- the rank of the worst severity
    findings     bigint  NOT NULL,
    endpoints    bigint  NOT NULL,
    holdings     bigint  NOT NULL,
    acknowledged bigint  NOT NULL,
    sort_key     text    COLLATE "C" NOT NULL GENERATED ALWAYS AS (worst || ' ' ||
        lpad((99999999 - endpoints - holdings)::text, 8, '0') || ' ' || code || ' ' || cause) STORED,
    PRIMARY KEY (cause, code, waived, severity)
);
CREATE INDEX causes_list ON causes (waived, severity, sort_key);
CREATE INDEX causes_list_code ON causes (waived, severity, code, sort_key);

-- How many findings of a cause each place has: an endpoint by its number, a holding by its number below zero.
CREATE TABLE cause_places (
    cause    text NOT NULL,
    code     text NOT NULL,
    waived   boolean NOT NULL,
    severity text NOT NULL,
    place    bigint  NOT NULL,
    findings integer NOT NULL,
    PRIMARY KEY (place, cause, code, waived, severity)
);

CREATE TYPE cause_change AS (cause text, code text, waived boolean, severity text, place bigint, findings integer,
    acknowledged integer);

-- +goose StatementBegin
CREATE FUNCTION cause_rank(severity text) RETURNS text LANGUAGE sql IMMUTABLE AS $$
    SELECT CASE severity WHEN 'fault' THEN '1' WHEN 'risk' THEN '2' WHEN 'note' THEN '4' ELSE '3' END
$$;

-- What is planned while the tables are empty is used when they are large, so that reading them whole is no choice.
CREATE FUNCTION causes_count(changes cause_change[]) RETURNS void LANGUAGE plpgsql SET enable_seqscan = off AS $$
BEGIN
    WITH net AS (
        SELECT cause, code, waived, severity, place, sum(findings) AS findings FROM unnest(changes)
        GROUP BY cause, code, waived, severity, place HAVING sum(findings) <> 0 ORDER BY 1, 2, 3, 4, 5
    ), placed AS (
        INSERT INTO cause_places AS p SELECT * FROM net
        ON CONFLICT (place, cause, code, waived, severity) DO UPDATE SET findings = p.findings + excluded.findings
        RETURNING cause, code, waived, severity, place, CASE WHEN xmax = 0 THEN 1 WHEN findings = 0 THEN -1 ELSE 0 END AS n
    ), change AS (
        SELECT cause, code, waived, severity, findings, acknowledged, 0 AS endpoints, 0 AS holdings FROM unnest(changes)
        UNION ALL
        SELECT cause, code, waived, severity, 0, 0, CASE WHEN place > 0 THEN n ELSE 0 END,
            CASE WHEN place < 0 THEN n ELSE 0 END FROM placed
    )
    INSERT INTO causes AS c (cause, code, waived, severity, worst, findings, endpoints, holdings, acknowledged)
    SELECT cause, code, waived, listed, min(cause_rank(severity)), sum(findings), sum(endpoints), sum(holdings),
        sum(acknowledged)
    FROM change, LATERAL (VALUES (severity), ('')) AS l (listed)
    GROUP BY cause, code, waived, listed ORDER BY 1, 2, 3, 4
    ON CONFLICT (cause, code, waived, severity) DO UPDATE SET findings = c.findings + excluded.findings,
        endpoints = c.endpoints + excluded.endpoints, holdings = c.holdings + excluded.holdings,
        acknowledged = c.acknowledged + excluded.acknowledged;
    DELETE FROM cause_places p USING unnest(changes) x WHERE p.findings = 0 AND p.place = x.place AND p.cause = x.cause
        AND p.code = x.code AND p.waived = x.waived AND p.severity = x.severity;
    DELETE FROM causes c USING unnest(changes) x WHERE c.findings = 0 AND c.cause = x.cause AND c.code = x.code
        AND c.waived = x.waived;
    UPDATE causes c SET worst = w.worst FROM (
        SELECT cause, code, waived, min(worst) AS worst FROM causes WHERE severity <> '' AND (cause, code, waived) IN
            (SELECT cause, code, waived FROM unnest(changes)) GROUP BY cause, code, waived) w
    WHERE c.severity = '' AND c.cause = w.cause AND c.code = w.code AND c.waived = w.waived AND c.worst <> w.worst;
END $$;

CREATE FUNCTION causes_of(f findings, n integer) RETURNS cause_change LANGUAGE sql IMMUTABLE AS $$
    SELECT f.cause, f.code, f.waived, f.severity, coalesce(f.endpoint_id, -f.holding_id), n,
        CASE WHEN f.acknowledged <> 'null' THEN n ELSE 0 END
$$;

CREATE FUNCTION causes_recount() RETURNS void LANGUAGE sql AS $$
    TRUNCATE causes, cause_places;
    INSERT INTO cause_places SELECT cause, code, waived, severity, coalesce(endpoint_id, -holding_id), count(*)
    FROM findings WHERE state <> 'gone' GROUP BY 1, 2, 3, 4, 5;
    INSERT INTO causes (cause, code, waived, severity, worst, findings, endpoints, holdings, acknowledged)
    SELECT cause, code, waived, l.severity, min(cause_rank(f.severity)), count(*), count(DISTINCT endpoint_id),
        count(DISTINCT holding_id), count(*) FILTER (WHERE acknowledged <> 'null')
    FROM findings f, LATERAL (VALUES (f.severity), ('')) AS l (severity) WHERE state <> 'gone' GROUP BY 1, 2, 3, 4;
$$;

CREATE FUNCTION causes_changed() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE changes cause_change[];
BEGIN
    IF TG_OP = 'INSERT' THEN
        changes := ARRAY(SELECT causes_of(n, 1) FROM came n WHERE state <> 'gone');
    ELSIF TG_OP = 'DELETE' THEN
        changes := ARRAY(SELECT causes_of(o, -1) FROM went o WHERE state <> 'gone');
    ELSE
        changes := ARRAY(
            SELECT causes_of(o, -1) FROM went o JOIN came n USING (id)
            WHERE o.state <> 'gone' AND (n.state = 'gone' OR causes_of(o, 1) IS DISTINCT FROM causes_of(n, 1))
            UNION ALL
            SELECT causes_of(n, 1) FROM went o JOIN came n USING (id)
            WHERE n.state <> 'gone' AND (o.state = 'gone' OR causes_of(o, 1) IS DISTINCT FROM causes_of(n, 1)));
    END IF;
    IF cardinality(changes) > 0 THEN
        PERFORM causes_count(changes);
    END IF;
    RETURN NULL;
END $$;
-- +goose StatementEnd

SELECT causes_recount();
CREATE TRIGGER causes_came AFTER INSERT ON findings REFERENCING NEW TABLE AS came
    FOR EACH STATEMENT EXECUTE FUNCTION causes_changed();
CREATE TRIGGER causes_went AFTER DELETE ON findings REFERENCING OLD TABLE AS went
    FOR EACH STATEMENT EXECUTE FUNCTION causes_changed();
CREATE TRIGGER causes_changed AFTER UPDATE ON findings REFERENCING OLD TABLE AS went NEW TABLE AS came
    FOR EACH STATEMENT EXECUTE FUNCTION causes_changed();

-- A finding that is only seen again has the same place in lists.
DROP TRIGGER findings_listed ON findings;
CREATE TRIGGER findings_listed BEFORE INSERT OR UPDATE OF sort_key, endpoint_id, holding_id, path, code, severity, finding,
    waived ON findings FOR EACH ROW EXECUTE FUNCTION findings_listed();

-- What the findings of a cause say: whether all say the same is the first and the last of each index.
DROP INDEX findings_list_cause, findings_cause;
CREATE INDEX findings_cause ON findings (cause, sort_key) WHERE state <> 'gone';
CREATE INDEX findings_cause_seen ON findings (cause, waived, first_seen) WHERE state <> 'gone';
CREATE INDEX findings_cause_message ON findings (cause, waived, (md5(finding ->> 'message') COLLATE "C"))
    WHERE state <> 'gone';
CREATE INDEX findings_cause_remedy ON findings (cause, waived, (md5(finding ->> 'remedy') COLLATE "C"))
    WHERE state <> 'gone';

-- +goose Down
DROP INDEX findings_cause_remedy, findings_cause_message, findings_cause_seen, findings_cause;
CREATE INDEX findings_cause ON findings (cause) WHERE state <> 'gone';
CREATE INDEX findings_list_cause ON findings (waived, cause, code, severity, endpoint_id, holding_id) WHERE state <> 'gone';
DROP TRIGGER findings_listed ON findings;
CREATE TRIGGER findings_listed BEFORE INSERT OR UPDATE ON findings FOR EACH ROW EXECUTE FUNCTION findings_listed();
DROP TRIGGER causes_changed ON findings;
DROP TRIGGER causes_went ON findings;
DROP TRIGGER causes_came ON findings;
DROP FUNCTION causes_changed, causes_recount, causes_of, causes_count, cause_rank;
DROP TYPE cause_change;
DROP TABLE cause_places, causes;
