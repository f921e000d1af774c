package store

import (
	"context"
	"time"

	"gorm.io/gorm/clause"

	"nurvik/core/plain"
)

// AddVisits ends a lookup and inserts the visits that it led to. It returns them with their identifiers, and reports
// whether the lookup had not ended.
func (t *Tx) AddVisits(lookup Visit, visits []Visit) (saved []Visit, ours bool, err error) {
	lookup.Failure = plain.Text(lookup.Failure)
	ended := t.db.Model(&lookup).Where("state = ?", VisitWaiting).Select("state", "lookup", "failure").Updates(&lookup)
	if ended.Error != nil || ended.RowsAffected == 0 || len(visits) == 0 {
		return nil, ended.RowsAffected > 0, ended.Error
	}
	return visits, true, t.db.Clauses(clause.OnConflict{DoNothing: true}).CreateInBatches(&visits, 500).Error
}

// SeeVantages notes at which vantages somebody works now.
func (s *Store) SeeVantages(ctx context.Context) error {
	_, err := s.Pool.Exec(ctx, `INSERT INTO vantages (name, seen_at) SELECT DISTINCT vantage, now() FROM workers
		WHERE vantage <> '' ORDER BY vantage ON CONFLICT (name) DO UPDATE SET seen_at = excluded.seen_at`)
	return err
}

// Abandoned fails the visits from vantages at which nobody has worked for so long, and removes their jobs; it returns
// how many there were.
func (s *Store) Abandoned(ctx context.Context, absent time.Duration) (int64, error) {
	tag, err := s.Pool.Exec(ctx, `UPDATE visits v SET state = 'failed', failure = 'nobody works at the vantage '
			|| v.vantage || ': run "nurvikd work --vantage ' || v.vantage || '" on a machine there'
		FROM audits a WHERE a.id = v.audit_id AND v.state = 'waiting' AND v.vantage <> ''
			AND a.created_at < now() - make_interval(secs => $1) AND NOT EXISTS (SELECT FROM vantages n
				WHERE n.name = v.vantage AND n.seen_at > now() - make_interval(secs => $1))`, absent.Seconds())
	if err != nil {
		return 0, err
	}
	_, err = s.Pool.Exec(ctx, `DELETE FROM river_job WHERE kind = 'visit' AND args ->> 'vantage' <> ''
		AND state IN ('available', 'scheduled', 'retryable') AND NOT EXISTS (SELECT FROM visits
			WHERE id = (args ->> 'visit_id')::bigint AND state = 'waiting')`)
	return tag.RowsAffected(), err
}
