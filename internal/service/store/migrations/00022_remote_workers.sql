-- +goose Up

-- A token may let a machine visit for one vantage through the API, where the database is out of reach.
ALTER TABLE tokens ADD COLUMN vantage text NOT NULL DEFAULT '';
ALTER TABLE tokens DROP CONSTRAINT tokens_role_check;
ALTER TABLE tokens ADD CONSTRAINT tokens_role_check
    CHECK (role IN ('viewer', 'auditor', 'administrator', 'collect', 'metrics', 'worker'));
ALTER TABLE tokens ADD CONSTRAINT tokens_vantage_check CHECK ((role = 'worker') = (vantage <> ''));

-- Which instance of the service such a worker reaches the database through.
ALTER TABLE workers ADD COLUMN through text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE workers DROP COLUMN through;
DELETE FROM tokens WHERE role = 'worker';
ALTER TABLE tokens DROP CONSTRAINT tokens_vantage_check;
ALTER TABLE tokens DROP COLUMN vantage;
ALTER TABLE tokens DROP CONSTRAINT tokens_role_check;
ALTER TABLE tokens ADD CONSTRAINT tokens_role_check
    CHECK (role IN ('viewer', 'auditor', 'administrator', 'collect', 'metrics'));
