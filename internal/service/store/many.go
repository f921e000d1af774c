package store

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"nurvik/internal/api"
)

// Bounds of changing many endpoints: so many are held in memory at once, and so many are told.
const (
	manyPortion = 1000
	manyTold    = 500
)

// alike selects endpoints.
func (t *Tx) alike(of api.Likeness) *gorm.DB {
	db := t.db.Model(&Endpoint{})
	if of.Search != "" {
		like := "%" + escapeLike(of.Search) + "%"
		db = db.Where(searched, like, like, like)
	}
	if of.Verdict != "" {
		db = db.Where("verdict = ?", of.Verdict)
	}
	if key, value, labels := strings.Cut(of.Label, "="); labels {
		db = db.Where(labelled, key, value)
	}
	if of.Policy != "" {
		db = db.Where("policy = ?", of.Policy)
	}
	return db
}

// ChangeMany changes the settings of endpoints that are alike, all or none: where the tag is not that of what would be
// changed, the error is ErrStale. Settle checks new settings. With a preview nothing is changed.
func (s *Store) ChangeMany(ctx context.Context, c api.ManyChanges, at time.Time,
	settle func(*api.EndpointSettings) error) (out api.ManyChanged, err error) {
	err = s.Tx(ctx, func(t *Tx) error {
		out = api.ManyChanged{Items: []api.ManyChange{}}
		sum := sha256.New()
		err := t.eachAlike(c, func(e Endpoint, after api.EndpointSettings) error {
			out.Alike++
			if e.Settings.Equal(after) {
				return nil
			}
			if err := settle(&after); err != nil {
				return err
			}
			out.Changed++
			fmt.Fprintln(sum, e.ID, e.Tag(), tagOf(after))
			if len(out.Items) < manyTold {
				out.Items = append(out.Items, api.ManyChange{ID: e.ID, Before: e.Settings, After: after})
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
		return t.eachAlike(c, func(e Endpoint, after api.EndpointSettings) error {
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

// eachAlike holds the endpoints that are meant and calls each for every one of them, by target, with what it would be.
// A change may make an endpoint that was passed less alike, but none that is still to come.
func (t *Tx) eachAlike(c api.ManyChanges, each func(e Endpoint, after api.EndpointSettings) error) error {
	for last := ""; ; {
		var rows []Endpoint
		err := t.alike(c.Of).Clauses(clause.Locking{Strength: "UPDATE"}).Where(`target COLLATE "C" > ?`, last).
			Order(`target COLLATE "C"`).Limit(manyPortion).Find(&rows).Error
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
