-- +goose Up

-- Clients check whom they speak to, also where that is not usual.
ALTER TABLE endpoints ADD COLUMN authenticated boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE endpoints DROP COLUMN authenticated;
