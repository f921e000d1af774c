-- +goose Up

-- What issuers said (CRLs, OCSP answers as they were verified, certificates of CAs), for as long as it holds, at most a
-- day: so a restart asks nobody again, and neither do other processes.
CREATE TABLE answers (
    key     bytea PRIMARY KEY, -- SHA-256 of what was asked for
    data    bytea       NOT NULL,
    ends_at timestamptz NOT NULL
);
CREATE INDEX answers_ends ON answers (ends_at);

-- +goose Down
DROP TABLE answers;
