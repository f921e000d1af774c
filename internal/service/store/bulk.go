package store

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"nurvik/internal/api"
)

// Bounds of changing many endpoints: so many are held in memory at once, and so many are told.
const (
	bulkPortion = 1000
	bulkTold    = 500
)

// filtered selects endpoints.
func (t *Tx) filtered(of api.EndpointFilter) *gorm.DB {
	db := t.db.Model(&Endpoint{})
	if of.Search != "" {
		db = searching(db, of.Search)
	}
	if of.Verdict != "" {
		db = db.Where("verdict = ?", of.Verdict)
	}
	return belonging(db, of.Owner, of.Label, of.Policy)
}

// BulkChange changes the settings of endpoints that match, all or none: where the tag is not that of what would be
// changed, the error is ErrStale. Settle checks new settings. With a preview nothing is changed.
func (s *Store) BulkChange(ctx context.Context, c api.BulkChange, at time.Time,
	settle func(*api.EndpointSettings) error) (out api.BulkResult, err error) {
	err = s.Tx(ctx, func(t *Tx) error {
		out = api.BulkResult{Items: []api.BulkItem{}}
		sum := sha256.New()
		err := t.eachMatching(c, func(e Endpoint, after api.EndpointSettings) error {
			out.Matched++
			if e.Settings.Equal(after) {
				return nil
			}
			if err := settle(&after); err != nil {
				return err
			}
			out.Changed++
			fmt.Fprintln(sum, e.ID, e.Tag(), tagOf(after))
			if len(out.Items) < bulkTold {
				out.Items = append(out.Items, api.BulkItem{ID: e.ID, Before: e.Settings, After: after})
			}
			return nil
		})
		if err != nil {
			return err
		}
		out.Tag = hex.EncodeToString(sum.Sum(nil)[:12])
		switch {
		case c.Tag != "" && c.Tag != out.Tag:
			return ErrStale
		case c.Preview:
			return nil
		}
		return t.eachMatching(c, func(e Endpoint, after api.EndpointSettings) error {
			if e.Settings.Equal(after) {
				return nil
			}
			if err := settle(&after); err != nil {
				return err
			}
			e.Settings, e.UpdatedAt = after, at
			return t.db.Model(&e).Select(settings).Updates(&e).Error
		})
	})
	return out, err
}

// eachMatching calls each for every endpoint that matches, by target, with what it would be; but for a preview it locks
// them. A change may take an endpoint that was passed out of the filter, but none that is still to come.
func (t *Tx) eachMatching(c api.BulkChange, each func(e Endpoint, after api.EndpointSettings) error) error {
	for last := ""; ; {
		var rows []Endpoint
		db := t.filtered(c.Filter).Where(`target COLLATE "C" > ?`, last).Order(`target COLLATE "C"`).Limit(bulkPortion)
		if !c.Preview {
			db = db.Clauses(clause.Locking{Strength: "UPDATE"})
		}
		err := db.Find(&rows).Error
		if err != nil || len(rows) == 0 {
			return err
		}
		for _, e := range rows {
			if err := each(e, c.Set.Over(e.Settings)); err != nil {
				return err
			}
		}
		last = rows[len(rows)-1].Target
	}
}
