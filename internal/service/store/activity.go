package store

import (
	"context"
	"time"

	"gorm.io/gorm"

	"nurvik/core/plain"
)

// Activity is one thing that somebody did, or tried to.
type Activity struct {
	ID        int64
	At        time.Time
	Who       string
	Through   string
	Address   string
	Operation string
	Object    string
	Status    int // of the answer; 0 while it is under way, or when the service was killed meanwhile
	Before    any `gorm:"serializer:json"`
	After     any `gorm:"serializer:json"`
}

// TableName is that of the activity log.
func (Activity) TableName() string { return "activity" }

// BeginActivity writes down what somebody is about to do.
func (s *Store) BeginActivity(ctx context.Context, a *Activity) error {
	a.clean()
	return s.write(ctx, func(db *gorm.DB) error { return db.Create(a).Error })
}

// EndActivity completes it with what became of it.
func (s *Store) EndActivity(ctx context.Context, a *Activity) error {
	a.clean()
	err := s.endActivity(ctx, a)
	if IsContents(err) { // what was refused may hold what cannot be stored; that it was tried is told all the same
		a.Before, a.After = nil, "holds characters that cannot be stored"
		err = s.endActivity(ctx, a)
	}
	return err
}

// clean makes texts from outside such as can be stored and shown.
func (a *Activity) clean() {
	a.Object, a.Who = plain.Text(a.Object), plain.Text(a.Who)
}

func (s *Store) endActivity(ctx context.Context, a *Activity) error {
	return s.write(ctx, func(db *gorm.DB) error {
		return db.Model(a).Where("status = 0").Select("object", "status", "before", "after").Updates(a).Error
	})
}

// Activities returns a page of what was done, the newest first.
func (s *Store) Activities(ctx context.Context, after string, limit int) ([]Activity, string, error) {
	return newest(s.read(ctx), after, limit, func(a Activity) int64 { return a.ID })
}
