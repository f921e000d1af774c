package store

import (
	"context"
	"fmt"
	"time"
)

// Removed counts the records that were removed, by what they are.
type Removed struct {
	What    string
	Records int64
}

// portionRemoved is how many records one statement removes, so that none holds others up.
const portionRemoved = 1000

// retention says what is removed that is older than a time. What the estate shows now stays, however old: the newest
// examination of each endpoint, what was seen last at a place, findings that are not gone, and certificates of CAs that
// have not expired, since they may complete a chain.
var retention = []struct{ what, statement string }{
	{"examinations", `DELETE FROM examinations WHERE (audit_id, endpoint_id) IN (
		SELECT x.audit_id, x.endpoint_id FROM audits a JOIN examinations x ON x.audit_id = a.id
			JOIN endpoints e ON e.id = x.endpoint_id
		WHERE a.finished_at < @before AND x.audit_id IS DISTINCT FROM e.audit_id LIMIT @most)`},
	{"audits", `DELETE FROM audits WHERE id IN (SELECT id FROM audits a WHERE finished_at < @before
		AND NOT EXISTS (SELECT FROM examinations x WHERE x.audit_id = a.id) LIMIT @most)`},
	{"findings that are gone", `DELETE FROM findings WHERE id IN (SELECT id FROM findings
		WHERE state = 'gone' AND gone_at < @before LIMIT @most)`},
	{"what-ifs", `DELETE FROM what_ifs WHERE id IN (SELECT id FROM what_ifs WHERE finished_at < @before LIMIT @most)`},
	{"waivers that have ended", `DELETE FROM waivers WHERE id IN (SELECT id FROM waivers
		WHERE ended_at < @before LIMIT @most)`},
	{"sightings", `DELETE FROM sightings WHERE ctid IN (
		SELECT s.ctid FROM sightings s JOIN places p ON p.id = s.place_id
		WHERE s.last_seen < @before AND (
			EXISTS (SELECT FROM places q JOIN sightings y ON y.place_id = q.id
				WHERE q.endpoint_id = p.endpoint_id AND y.last_seen > s.last_seen)
			OR EXISTS (SELECT FROM places q JOIN sightings y ON y.place_id = q.id
				WHERE q.holding_id = p.holding_id AND y.last_seen > s.last_seen))
		LIMIT @most)`},
	{"certificates", `DELETE FROM certificates WHERE sha256 IN (SELECT sha256 FROM certificates c
		WHERE last_seen < @before AND NOT (authority AND (not_after IS NULL OR not_after > @before))
			AND NOT EXISTS (SELECT FROM sightings s WHERE s.certificate = c.sha256) LIMIT @most)`},
	{"keys", `DELETE FROM keys WHERE spki_sha256 IN (SELECT spki_sha256 FROM keys k WHERE last_seen < @before
		AND NOT EXISTS (SELECT FROM certificates c WHERE c.spki_sha256 = k.spki_sha256)
		AND NOT EXISTS (SELECT FROM sightings s WHERE s.spki_sha256 = k.spki_sha256) LIMIT @most)`},
	{"contents", `DELETE FROM contents WHERE id IN (SELECT id FROM contents c
		WHERE NOT EXISTS (SELECT FROM examinations x WHERE x.facts_id = c.id)
			AND NOT EXISTS (SELECT FROM examinations x WHERE x.findings_id = c.id) LIMIT @most)`},
}

// RemoveBefore removes what is older than that, a portion at a time, until nothing is left or the context ends.
func (s *Store) RemoveBefore(ctx context.Context, before time.Time) (out []Removed, err error) {
	for _, r := range retention {
		removed := Removed{What: r.what}
		for {
			done := s.read(ctx).Exec(r.statement, map[string]any{"before": before, "most": portionRemoved})
			if done.Error != nil {
				return out, fmt.Errorf("remove old %s: %w", r.what, done.Error)
			}
			removed.Records += done.RowsAffected
			if done.RowsAffected < portionRemoved {
				break
			}
		}
		if removed.Records > 0 {
			out = append(out, removed)
		}
	}
	return out, nil
}
