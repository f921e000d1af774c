-- +goose Up

-- A second factor of those who sign in with a password (WebAuthn).
CREATE TABLE passkeys (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    person_id     bigint      NOT NULL REFERENCES people ON DELETE CASCADE,
    name          text        NOT NULL,
    credential_id bytea       NOT NULL UNIQUE,
    credential    jsonb       NOT NULL, -- public key, counter, flags
    created_at    timestamptz NOT NULL,
    used_at       timestamptz
);
CREATE INDEX passkeys_person ON passkeys (person_id);

-- What a browser was asked to sign. Each is good once, for minutes.
CREATE TABLE passkey_tries (
    digest    bytea PRIMARY KEY, -- of the secret that the browser brings back
    person_id bigint      NOT NULL REFERENCES people ON DELETE CASCADE,
    adds      boolean     NOT NULL, -- a passkey; else it signs in
    challenge jsonb       NOT NULL,
    ends_at   timestamptz NOT NULL
);
CREATE INDEX passkey_tries_person ON passkey_tries (person_id);
CREATE INDEX passkey_tries_ends ON passkey_tries (ends_at);

-- +goose Down
DROP TABLE passkey_tries;
DROP TABLE passkeys;
