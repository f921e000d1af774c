-- +goose Up

-- Endpoints have owners, and lists can be of an owner, a label or a policy.
ALTER TABLE endpoints
    DROP COLUMN search,
    ADD COLUMN owner text NOT NULL GENERATED ALWAYS AS (coalesce(settings ->> 'owner', '')) STORED,
    ADD COLUMN search text NOT NULL GENERATED ALWAYS AS (target || E'\n' || issuer || E'\n' ||
        coalesce(settings ->> 'owner', '') || E'\n' ||
        replace(replace(jsonb_path_query_array(settings, '$.labels.*')::text, '\"', '"'), '\\', '\')) STORED;
CREATE INDEX endpoints_search ON endpoints USING gin (search gin_trgm_ops);
CREATE INDEX endpoints_owner ON endpoints (owner);
CREATE INDEX endpoints_policy ON endpoints (policy);
CREATE INDEX endpoints_labels ON endpoints USING gin ((settings -> 'labels') jsonb_path_ops);

-- A token can be for the endpoints with one label alone.
ALTER TABLE tokens ADD COLUMN label text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE tokens DROP COLUMN label;
DROP INDEX endpoints_labels, endpoints_policy;
ALTER TABLE endpoints
    DROP COLUMN owner,
    DROP COLUMN search,
    ADD COLUMN search text NOT NULL GENERATED ALWAYS AS (target || E'\n' || issuer || E'\n' ||
        replace(replace(jsonb_path_query_array(settings, '$.labels.*')::text, '\"', '"'), '\\', '\')) STORED;
CREATE INDEX endpoints_search ON endpoints USING gin (search gin_trgm_ops);
