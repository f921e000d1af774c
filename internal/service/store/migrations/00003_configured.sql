-- +goose Up

-- A file of a holding that has not changed is not sent again: the digest is that of the line as it was sent. Those that
-- hold configuration are found without looking into all.
ALTER TABLE holding_files
    ADD COLUMN digest     text    NOT NULL DEFAULT '',
    ADD COLUMN configured boolean NOT NULL GENERATED ALWAYS AS (facts ? 'configuration') STORED;
CREATE INDEX holding_files_configured ON holding_files (holding_id) WHERE configured;
ALTER TABLE delivery_lines
    ADD COLUMN digest text NOT NULL DEFAULT '',
    ALTER COLUMN payload DROP NOT NULL; -- what is as it was

-- +goose Down
ALTER TABLE delivery_lines DROP COLUMN digest;
DELETE FROM delivery_lines WHERE payload IS NULL;
ALTER TABLE delivery_lines ALTER COLUMN payload SET NOT NULL;
DROP INDEX holding_files_configured;
ALTER TABLE holding_files DROP COLUMN configured, DROP COLUMN digest;
