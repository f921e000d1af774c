-- +goose Up

-- Who signs in at an OpenID provider instead of with a password: known by issuer and subject, which never change.
ALTER TABLE people
    ADD COLUMN openid_issuer  text NOT NULL DEFAULT '',
    ADD COLUMN openid_subject text NOT NULL DEFAULT '';
CREATE UNIQUE INDEX people_openid ON people (openid_issuer, openid_subject) WHERE openid_subject <> '';

-- Sign-ins that have been sent to the provider. Each is good once, for minutes.
CREATE TABLE openid_tries (
    state    bytea PRIMARY KEY, -- its digest; the browser has it in a cookie
    nonce    text        NOT NULL,
    verifier text        NOT NULL, -- of PKCE (RFC 7636)
    goes_to  text        NOT NULL, -- the page of the console that was wanted
    ends_at  timestamptz NOT NULL
);
CREATE INDEX openid_tries_ends ON openid_tries (ends_at);

-- +goose Down
DROP TABLE openid_tries;
DROP INDEX people_openid;
ALTER TABLE people DROP COLUMN openid_issuer, DROP COLUMN openid_subject;
