-- +goose Up

-- What findings have in common, as the judgement tells it, and what that is about. Findings from before have none until
-- they are judged again.
ALTER TABLE findings
    ADD COLUMN cause       text NOT NULL DEFAULT '',
    ADD COLUMN cause_about text NOT NULL DEFAULT '';
CREATE INDEX findings_cause ON findings (cause) WHERE state <> 'gone';

-- +goose Down
DROP INDEX findings_cause;
ALTER TABLE findings DROP COLUMN cause, DROP COLUMN cause_about;
