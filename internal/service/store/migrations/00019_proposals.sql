-- +goose Up

-- Endpoints are known by their host, and by the names that they are to have.
ALTER TABLE endpoints ADD COLUMN host text NOT NULL GENERATED ALWAYS AS (
    regexp_replace(regexp_replace(target, '^[a-z0-9-]+://', ''), ':[0-9]+$', '')) STORED;
CREATE INDEX endpoints_host ON endpoints (host);
CREATE INDEX endpoints_names ON endpoints USING gin ((settings -> 'names') jsonb_path_ops);

-- Endpoints that somebody does not want in the estate, although they were met somewhere.
CREATE TABLE dismissed_proposals (
    endpoint text PRIMARY KEY,
    by_name  text        NOT NULL,
    at       timestamptz NOT NULL
);

-- +goose Down
DROP TABLE dismissed_proposals;
DROP INDEX endpoints_names;
ALTER TABLE endpoints DROP COLUMN host;
