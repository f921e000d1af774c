-- +goose Up

-- How far an endpoint is in an audit. What ended before has nothing left to do; an audit that was under way goes on from
-- where it was.
ALTER TABLE examinations ADD COLUMN stage text NOT NULL DEFAULT 'closed'
    CHECK (stage IN ('new', 'planned', 'visited', 'judged', 'closed'));
ALTER TABLE examinations ALTER COLUMN stage SET DEFAULT 'new';
UPDATE examinations SET stage = 'new' FROM audits WHERE audits.id = audit_id AND state = 'planning';
UPDATE examinations SET stage = 'planned' FROM audits WHERE audits.id = audit_id AND state IN ('visiting', 'judging');
UPDATE audits SET state = 'visiting' WHERE state = 'judging';
CREATE INDEX examinations_open ON examinations (audit_id, stage, endpoint_id) WHERE stage <> 'closed';
DROP INDEX visits_waiting;
CREATE INDEX visits_waiting ON visits (audit_id, endpoint_id) WHERE state = 'waiting';

-- A job that judges is on the queue.
ALTER TABLE audits ADD COLUMN judge_queued boolean NOT NULL DEFAULT false;

-- The verdict is that of an audit that has not ended.
ALTER TABLE endpoints ADD COLUMN provisional boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE endpoints DROP COLUMN provisional;
ALTER TABLE audits DROP COLUMN judge_queued;
DROP INDEX visits_waiting;
CREATE INDEX visits_waiting ON visits (audit_id) WHERE state = 'waiting';
ALTER TABLE examinations DROP COLUMN stage;
