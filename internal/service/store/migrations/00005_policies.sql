-- +goose Up

-- A policy of one's own, as it was sent; and whether the caller named a policy, which then holds for every endpoint.
ALTER TABLE audits ADD COLUMN policy_file text NOT NULL DEFAULT '';
ALTER TABLE audits ADD COLUMN policy_chosen boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE audits DROP COLUMN policy_chosen;
ALTER TABLE audits DROP COLUMN policy_file;
