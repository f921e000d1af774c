-- +goose Up

-- The port on which plain HTTP is looked for; 0 for 80 beside 443.
ALTER TABLE endpoints ADD COLUMN http_port integer NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE endpoints DROP COLUMN http_port;
