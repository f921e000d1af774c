package store

import (
	"context"
	"time"

	"nurvik/core/plain"
	"nurvik/internal/api"

	"gorm.io/gorm"
)

// WhatIf is what was observed, judged otherwise: a report of its own.
type WhatIf struct {
	ID         int64
	State      string
	Question   WhatIfQuestion `gorm:"serializer:json"`
	CreatedAt  time.Time
	FinishedAt *time.Time
	Failure    string
	Answer     *api.WhatIfAnswer `gorm:"serializer:json"`
}

// WhatIfQuestion is what is asked.
type WhatIfQuestion struct {
	EndpointIDs []int64   `json:"endpoint_ids"` // none for all
	At          time.Time `json:"at"`
	Policy      string    `json:"policy"`      // by name; "" for those that are assigned
	PolicyText  string    `json:"policy_text"` // of one that was sent
	Distrust    []string  `json:"distrust"`
}

// WhatIfEndpoint is one endpoint in a what-if.
type WhatIfEndpoint struct {
	WhatIfID   int64 `gorm:"primaryKey"`
	EndpointID int64 `gorm:"primaryKey"`
	Target     string
	Result     api.WhatIfEndpoint `gorm:"serializer:json"`
}

// CreateWhatIf inserts the question.
func (t *Tx) CreateWhatIf(w *WhatIf) error {
	if err := t.room(&WhatIf{}, "state = ?", "judging"); err != nil {
		return err
	}
	return t.db.Create(w).Error
}

// WhatIf returns one.
func (s *Store) WhatIf(ctx context.Context, id int64) (WhatIf, error) {
	var w WhatIf
	return w, notFound(s.read(ctx).First(&w, id).Error)
}

// WhatIfs returns one page, the newest first, and the cursor of the next.
func (s *Store) WhatIfs(ctx context.Context, after string, limit int) ([]WhatIf, string, error) {
	return newest(s.read(ctx), after, limit, func(w WhatIf) int64 { return w.ID })
}

// RemoveWhatIf removes one.
func (s *Store) RemoveWhatIf(ctx context.Context, id int64) error {
	return s.write(ctx, func(db *gorm.DB) error { return touched(db.Delete(&WhatIf{ID: id})) })
}

// WhatIfEndpoints returns the endpoints of a what-if, by target.
func (s *Store) WhatIfEndpoints(ctx context.Context, id int64) ([]WhatIfEndpoint, error) {
	var out []WhatIfEndpoint
	return out, s.read(ctx).Where("what_if_id = ?", id).Order(`target COLLATE "C"`).Find(&out).Error
}

// FinishWhatIf stores the answer, unless the what-if has ended already.
func (t *Tx) FinishWhatIf(id int64, answer api.WhatIfAnswer, endpoints []WhatIfEndpoint, now time.Time) error {
	result := t.db.Model(&WhatIf{ID: id}).Where("state = ?", "judging").Select("state", "answer", "finished_at").
		Updates(&WhatIf{State: "finished", Answer: &answer, FinishedAt: &now})
	if result.Error != nil || result.RowsAffected == 0 || len(endpoints) == 0 {
		return result.Error
	}
	return t.db.CreateInBatches(&endpoints, 500).Error
}

// FailWhatIf ends it with a reason.
func (s *Store) FailWhatIf(ctx context.Context, id int64, reason string, now time.Time) error {
	return s.write(ctx, func(db *gorm.DB) error {
		return db.Model(&WhatIf{ID: id}).Where("state = ?", "judging").
			Updates(map[string]any{"state": "failed", "failure": plain.Text(reason), "finished_at": now}).Error
	})
}

// EachLatest calls each for every endpoint of those named, or of all, with its
// latest examination, a portion at a time. Endpoints that were never examined are passed over.
func (s *Store) EachLatest(ctx context.Context, endpoints []int64, each func([]Endpoint, []Examination) error) error {
	const portion = 500
	last := int64(0)
	for {
		db := s.read(ctx).Where("id > ? AND audit_id IS NOT NULL", last).Order("id").Limit(portion)
		if len(endpoints) > 0 {
			db = db.Where("id IN ?", endpoints)
		}
		var rows []Endpoint
		if err := db.Find(&rows).Error; err != nil || len(rows) == 0 {
			return err
		}
		last = rows[len(rows)-1].ID
		keys := make([][]any, len(rows))
		for i, r := range rows {
			keys[i] = []any{*r.AuditID, r.ID}
		}
		var examinations []Examination
		if err := s.read(ctx).Where("(audit_id, endpoint_id) IN ?",
			keys).Order("endpoint_id").Find(&examinations).Error; err != nil {
			return err
		}
		byEndpoint := map[int64]Examination{}
		for _, x := range examinations {
			byEndpoint[x.EndpointID] = x
		}
		var kept []Endpoint
		examinations = examinations[:0]
		for _, r := range rows {
			if x, ok := byEndpoint[r.ID]; ok && x.Facts != nil {
				kept, examinations = append(kept, r), append(examinations, x)
			}
		}
		if err := each(kept, examinations); err != nil {
			return err
		}
	}
}
