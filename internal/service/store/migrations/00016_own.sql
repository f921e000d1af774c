-- +goose Up

-- Endpoints of the service itself that it has added to the estate: once, so that who removes one is rid of it.
CREATE TABLE own_endpoints (
    target   text PRIMARY KEY,
    added_at timestamptz NOT NULL
);

-- +goose Down
DROP TABLE own_endpoints;
