-- +goose Up

-- An endpoint may name the schedule that audits it, which then cannot go away.
ALTER TABLE endpoints ADD COLUMN schedule text GENERATED ALWAYS AS (nullif(settings ->> 'schedule', '')) STORED;
CREATE INDEX endpoints_schedule ON endpoints (schedule) WHERE schedule IS NOT NULL;
ALTER TABLE endpoints ADD CONSTRAINT endpoints_schedule_known FOREIGN KEY (schedule) REFERENCES schedules (name)
    DEFERRABLE;

-- +goose Down
ALTER TABLE endpoints DROP CONSTRAINT endpoints_schedule_known;
DROP INDEX endpoints_schedule;
ALTER TABLE endpoints DROP COLUMN schedule;
