package store

import (
	"context"
	"errors"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"nurvik/internal/api"
)

// Schedule begins audits by itself.
type Schedule struct {
	ID        int64
	Name      string
	Settings  api.ScheduleSettings `gorm:"serializer:json"`
	NextAt    *time.Time           // nil while it is paused
	LastAt    *time.Time           // when an audit was due last
	Skipped   string               // why none began then
	AuditID   *int64               // the one that began last
	CreatedAt time.Time
}

// maxSchedules is how many there may be.
const maxSchedules = 200

// ErrTooManySchedules says that there are as many as there may be.
var ErrTooManySchedules = errors.New("there are 200 schedules already; remove one that is not needed any more")

// ErrScheduleInUse says that endpoints name a schedule.
var ErrScheduleInUse = errors.New("endpoints name this schedule; give them another one first, or none: " +
	"\"nurvik estate bulk-change\"")

// Schedules returns all, by name.
func (s *Store) Schedules(ctx context.Context) (out []Schedule, err error) {
	return out, s.read(ctx).Order("name").Find(&out).Error
}

// Schedule returns one.
func (s *Store) Schedule(ctx context.Context, id int64) (out Schedule, err error) {
	return out, notFound(s.read(ctx).First(&out, id).Error)
}

// AddSchedule stores one. The error is ErrNameTaken where there is one of that name.
func (s *Store) AddSchedule(ctx context.Context, row *Schedule) error {
	return s.Tx(ctx, func(tx *Tx) error {
		if err := tx.Sole("schedules"); err != nil {
			return err
		}
		var count int64
		err := tx.db.Model(&Schedule{}).Count(&count).Error
		if err == nil && count >= maxSchedules {
			return ErrTooManySchedules
		}
		if err == nil {
			err = taken(tx.db.Create(row).Error)
		}
		return err
	})
}

// ChangeSchedule stores another name and other settings, and when the next audit is due, where one of the tags is its.
func (s *Store) ChangeSchedule(ctx context.Context, row Schedule, tags string) error {
	return s.Tx(ctx, func(t *Tx) error {
		before, err := expected[Schedule](t, tags, "id = ?", row.ID)
		if err != nil {
			return err
		}
		if before.Name == row.Name {
			return t.db.Model(&row).Select("settings", "next_at").Updates(&row).Error
		}
		if err := t.db.Exec("SET CONSTRAINTS endpoints_schedule_known DEFERRED").Error; err != nil {
			return err
		}
		if err := taken(t.db.Model(&row).Select("name", "settings", "next_at").Updates(&row).Error); err != nil {
			return err
		}
		return t.db.Exec("UPDATE endpoints SET settings = jsonb_set(settings, '{schedule}', to_jsonb(?::text)) "+
			"WHERE schedule = ?", row.Name, before.Name).Error
	})
}

// RemoveSchedule removes one that no endpoint names, where one of the tags is its. Its audits stay, and one that
// is under way goes on.
func (s *Store) RemoveSchedule(ctx context.Context, id int64, tags string) error {
	return s.Tx(ctx, func(t *Tx) error {
		if _, err := expected[Schedule](t, tags, "id = ?", id); err != nil {
			return err
		}
		err := t.db.Delete(&Schedule{ID: id}).Error
		if IsMissing(err) {
			return ErrScheduleInUse
		}
		return err
	})
}

// Selection is which endpoints it audits.
func (s Schedule) Selection() Selection {
	key, value, _ := strings.Cut(s.Settings.Label, "=")
	return Selection{LabelKey: key, LabelValue: value, Schedule: s.Name}
}

// CountEndpoints counts those that a selection is about.
func (s *Store) CountEndpoints(ctx context.Context, of Selection) (int, error) {
	condition, arguments := of.where()
	var count int64
	err := s.read(ctx).Model(&Endpoint{}).Where(condition, arguments...).Count(&count).Error
	return int(count), err
}

// Due takes a schedule of which an audit is due, and holds it until the transaction ends. It is nil where there is
// none, or where other processes hold them all.
func (t *Tx) Due(now time.Time, except []int64) (*Schedule, error) {
	var row Schedule
	db := t.db.Clauses(clause.Locking{Strength: "UPDATE", Options: "SKIP LOCKED"}).Where("next_at <= ?", now)
	if len(except) > 0 {
		db = db.Where("id NOT IN ?", except)
	}
	err := db.Order("next_at, id").First(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, nil
	}
	return &row, err
}

// Took stores what became of a schedule that was due.
func (t *Tx) Took(row *Schedule) error {
	return t.db.Model(row).Select("next_at", "last_at", "skipped", "audit_id").Updates(row).Error
}

// HoldBack puts the next audit of a schedule at a time, where it would come later or not at all: a clock was put back.
func (s *Store) HoldBack(ctx context.Context, id int64, next time.Time) (changed bool, err error) {
	err = s.write(ctx, func(db *gorm.DB) error {
		done := db.Model(&Schedule{}).Where("id = ? AND next_at > ?", id, next).Update("next_at", next)
		changed = done.RowsAffected > 0
		return done.Error
	})
	return changed, err
}
