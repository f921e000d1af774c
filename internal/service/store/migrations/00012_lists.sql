-- +goose Up

-- Every order and filter that lists offer has an index, and texts are found by their trigrams.
CREATE EXTENSION IF NOT EXISTS pg_trgm;

-- A finding's place in lists, the worst first and what is waived last, and what it is found by. Long texts are cut: an
-- index has no room for more.
ALTER TABLE findings
    ADD COLUMN sort_key text COLLATE "C" NOT NULL DEFAULT '',
    ADD COLUMN search   text NOT NULL DEFAULT '';

-- +goose StatementBegin
CREATE FUNCTION findings_listed() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE place text;
BEGIN
    place := coalesce((SELECT target FROM endpoints WHERE id = NEW.endpoint_id),
        (SELECT name || ' ' || NEW.path FROM holdings WHERE id = NEW.holding_id), '');
    NEW.sort_key := CASE WHEN NEW.waived THEN '5' WHEN NEW.severity = 'fault' THEN '1' WHEN NEW.severity = 'risk' THEN '2'
        WHEN NEW.severity = 'note' THEN '4' ELSE '3' END || ' ' || left(place, 250) || ' ' || NEW.code || ' ' ||
        left(coalesce(NEW.finding ->> 'about', ''), 200) || ' ' || NEW.id;
    NEW.search := place || E'\n' || coalesce(NEW.finding ->> 'message', '');
    RETURN NEW;
END $$;

-- An endpoint or holding that gets another name.
CREATE FUNCTION findings_renamed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_TABLE_NAME = 'endpoints' THEN
        UPDATE findings SET sort_key = '' WHERE endpoint_id = NEW.id;
    ELSE
        UPDATE findings SET sort_key = '' WHERE holding_id = NEW.id;
    END IF;
    RETURN NULL;
END $$;
-- +goose StatementEnd

CREATE TRIGGER findings_listed BEFORE INSERT OR UPDATE ON findings
    FOR EACH ROW EXECUTE FUNCTION findings_listed();
UPDATE findings SET sort_key = '';
CREATE TRIGGER findings_renamed AFTER UPDATE OF target ON endpoints FOR EACH ROW
    WHEN (OLD.target IS DISTINCT FROM NEW.target) EXECUTE FUNCTION findings_renamed();
CREATE TRIGGER findings_renamed AFTER UPDATE OF name ON holdings FOR EACH ROW
    WHEN (OLD.name IS DISTINCT FROM NEW.name) EXECUTE FUNCTION findings_renamed();

CREATE INDEX findings_list ON findings (sort_key) WHERE state <> 'gone';
CREATE INDEX findings_list_severity ON findings (severity, sort_key) WHERE state <> 'gone';
CREATE INDEX findings_list_code ON findings (code, sort_key) WHERE state <> 'gone';
CREATE INDEX findings_list_state ON findings (state, sort_key);
CREATE INDEX findings_list_waived ON findings (waived, sort_key) WHERE state <> 'gone';
CREATE INDEX findings_list_cause ON findings (waived, cause, code, severity, endpoint_id, holding_id) WHERE state <> 'gone';
CREATE INDEX findings_search ON findings USING gin (search gin_trgm_ops);

ALTER TABLE endpoints ADD COLUMN search text NOT NULL GENERATED ALWAYS AS (target || E'\n' || issuer || E'\n' ||
    replace(replace(jsonb_path_query_array(settings, '$.labels.*')::text, '\"', '"'), '\\', '\')) STORED;
CREATE INDEX endpoints_search ON endpoints USING gin (search gin_trgm_ops);
CREATE INDEX endpoints_verdict ON endpoints (verdict);
CREATE INDEX endpoints_list_target ON endpoints ((target COLLATE "C"), id);
CREATE INDEX endpoints_list_verdict ON endpoints (((CASE verdict WHEN 'faulty' THEN '1' WHEN 'at-risk' THEN '2'
    WHEN 'unreachable' THEN '3' WHEN 'sound' THEN '4' ELSE '5' END) COLLATE "C"), id);
CREATE INDEX endpoints_list_not_after ON endpoints ((coalesce(lpad(
    (extract(epoch FROM not_after AT TIME ZONE 'UTC')::bigint + 100000000000)::text, 13, '0'), '~') COLLATE "C"), id);
CREATE INDEX endpoints_list_issuer ON endpoints (((CASE WHEN issuer = '' THEN '~' ELSE lower(issuer) END)
    COLLATE "C"), id);

CREATE INDEX certificates_subject ON certificates USING gin (subject gin_trgm_ops);

-- +goose Down
DROP INDEX certificates_subject, endpoints_list_issuer, endpoints_list_not_after, endpoints_list_verdict,
    endpoints_list_target, endpoints_verdict;
ALTER TABLE endpoints DROP COLUMN search;
DROP TRIGGER findings_renamed ON endpoints;
DROP TRIGGER findings_renamed ON holdings;
DROP TRIGGER findings_listed ON findings;
DROP FUNCTION findings_listed, findings_renamed;
ALTER TABLE findings DROP COLUMN sort_key, DROP COLUMN search;
