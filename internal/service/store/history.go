package store

import (
	"context"
	"time"
)

// PastExamination is how an endpoint was found and judged in an audit.
type PastExamination struct {
	Examination
	Began time.Time // the audit
}

// History returns at most so many examinations of an endpoint that have a verdict, the newest first: of all audits, or
// of the one given and those before it.
func (s *Store) History(ctx context.Context, endpoint, until int64, limit int) ([]PastExamination, error) {
	db := s.read(ctx).Model(&Examination{}).Select("audit_id, endpoint_id, unexamined, verdict, stage, "+
		"coalesce(facts, showed.body) AS facts, coalesce(judgement, found.body) AS judgement, "+
		"audits.created_at AS began").Joins("JOIN audits ON audits.id = audit_id").
		Joins("LEFT JOIN contents showed ON showed.id = facts_id").
		Joins("LEFT JOIN contents found ON found.id = findings_id").
		Where("endpoint_id = ? AND examinations.verdict <> ''", endpoint)
	if until > 0 {
		db = db.Where("audit_id <= ?", until)
	}
	var out []PastExamination
	return out, db.Order("audit_id DESC").Limit(limit).Scan(&out).Error
}
