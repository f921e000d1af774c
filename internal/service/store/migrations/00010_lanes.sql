-- +goose Up

-- What a process that works on this database says of itself.
ALTER TABLE workers
    ADD COLUMN kind       text        NOT NULL DEFAULT 'serve', -- or work
    ADD COLUMN host       text        NOT NULL DEFAULT '',
    ADD COLUMN version    text        NOT NULL DEFAULT '',
    ADD COLUMN visits     integer     NOT NULL DEFAULT 0,       -- at once, at most
    ADD COLUMN started_at timestamptz NOT NULL DEFAULT now();

-- One process at a time visits a host. Its turn ends when it says so, or with the time.
CREATE TABLE lanes (
    host   text PRIMARY KEY, -- an address
    holder text        NOT NULL, -- the instance of a worker, '' for nobody
    until  timestamptz NOT NULL  -- nobody else has a turn before
);
CREATE INDEX lanes_until ON lanes (until);

-- +goose Down
DROP TABLE lanes;
ALTER TABLE workers DROP COLUMN kind, DROP COLUMN host, DROP COLUMN version, DROP COLUMN visits, DROP COLUMN started_at;
