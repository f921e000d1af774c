-- +goose Up

-- A visit is made from a vantage, '' for where the service itself is. The name of an endpoint that has vantages is
-- looked up at each: that is a visit without an address, which brings the others.
ALTER TABLE visits ADD COLUMN vantage text NOT NULL DEFAULT '', ADD COLUMN lookup jsonb;
ALTER TABLE visits DROP CONSTRAINT visits_audit_id_endpoint_id_address_server_name_key;
ALTER TABLE visits ADD UNIQUE (audit_id, endpoint_id, vantage, address, server_name);
CREATE INDEX visits_elsewhere ON visits (vantage) WHERE state = 'waiting' AND vantage <> '';

ALTER TABLE workers ADD COLUMN vantage text NOT NULL DEFAULT '';

-- When somebody worked at a vantage last.
CREATE TABLE vantages (
    name    text        PRIMARY KEY,
    seen_at timestamptz NOT NULL
);

-- +goose Down
DROP TABLE vantages;
ALTER TABLE workers DROP COLUMN vantage;
DELETE FROM visits WHERE vantage <> '';
DROP INDEX visits_elsewhere;
ALTER TABLE visits DROP CONSTRAINT visits_audit_id_endpoint_id_vantage_address_server_name_key;
ALTER TABLE visits ADD UNIQUE (audit_id, endpoint_id, address, server_name);
ALTER TABLE visits DROP COLUMN vantage, DROP COLUMN lookup;
