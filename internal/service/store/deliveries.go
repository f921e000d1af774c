package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"nurvik/internal/api"
)

// Delivery is something that is sent in parts.
type Delivery struct {
	ID        int64
	Kind      string
	Digest    string
	Header    api.DeliveryStart `gorm:"serializer:json"`
	NextPart  int
	Lines     int
	TouchedAt time.Time
	Result    *api.DeliveryResult `gorm:"serializer:json"`
}

// DeliveryLine is one line of it.
type DeliveryLine struct {
	DeliveryID int64  `gorm:"primaryKey"`
	Key        string `gorm:"primaryKey"` // what may be there once
	Number     int
	Payload    *string `gorm:"type:jsonb"` // nil for a file that is as it was
	Digest     string  // of the line as it was sent; of a file that is as it was, of the line sent then
}

// Limits of open deliveries.
const (
	maxDeliveries = 200            // of which something is kept
	deliveryLife  = 24 * time.Hour // after its last part
	resultLife    = time.Hour
	emptyLife     = 10 * time.Minute
	idle          = time.Minute // after which one gives way to another when there are too many
)

var (
	// ErrTooMany says that too much of a kind is going on already.
	ErrTooMany = errors.New("too many of these are going on already; wait until one has ended")
	// ErrFinished says that a delivery takes no more parts.
	ErrFinished = errors.New("the delivery is finished; begin another one")
)

// ChangedError says that files are not here any more as they were sent before.
type ChangedError struct{ Files int }

func (e *ChangedError) Error() string {
	return fmt.Sprintf("%d of the files are not here as they were sent before; send all of them", e.Files)
}

// PartError says which part of a delivery is waited for.
type PartError struct{ Next int }

func (e *PartError) Error() string {
	return fmt.Sprintf("part %d of the delivery is waited for", e.Next)
}

// TwiceError says what is in a delivery twice.
type TwiceError struct{ Key string }

func (e *TwiceError) Error() string { return e.Key + " is there twice" }

// BeginDelivery begins a delivery, or finds the open one of the same contents.
func (s *Store) BeginDelivery(ctx context.Context, start api.DeliveryStart) (d Delivery, err error) {
	now := s.Clock.Stamp()
	err = s.Tx(ctx, func(tx *Tx) error {
		if err := tx.Sole("deliveries"); err != nil {
			return err
		}
		err := tx.db.Where("touched_at < ? OR result IS NOT NULL AND touched_at < ? OR lines = 0 AND touched_at < ?",
			now.Add(-deliveryLife), now.Add(-resultLife), now.Add(-emptyLife)).Delete(&Delivery{}).Error
		if err != nil {
			return err
		}
		d = Delivery{}
		found := tx.db.Where("kind = ? AND digest = ? AND result IS NULL", start.Kind, start.Digest).Limit(1).Find(&d)
		if found.Error != nil {
			return found.Error
		}
		if found.RowsAffected > 0 {
			d.Header, d.TouchedAt = start, now
			return tx.db.Model(&d).Select("header", "touched_at").Updates(&d).Error
		}
		if err := tx.makeRoom(now); err != nil {
			return err
		}
		d = Delivery{Kind: start.Kind, Digest: start.Digest, Header: start, NextPart: 1, TouchedAt: now}
		return tx.db.Create(&d).Error
	})
	return d, err
}

// makeRoom gives up the delivery that was idle for longest where there are too many.
func (t *Tx) makeRoom(now time.Time) error {
	var open []Delivery
	err := t.db.Where("result IS NULL AND lines > 0").Order("touched_at").Select("id", "touched_at").Find(&open).Error
	if err != nil || len(open) < maxDeliveries {
		return err
	}
	if open[0].TouchedAt.After(now.Add(-idle)) {
		return ErrTooMany
	}
	return t.db.Delete(&Delivery{ID: open[0].ID}).Error
}

// Delivery returns one.
func (s *Store) Delivery(ctx context.Context, id int64) (Delivery, error) {
	var d Delivery
	return d, notFound(s.read(ctx).First(&d, id).Error)
}

// RemoveDelivery gives up a delivery.
func (s *Store) RemoveDelivery(ctx context.Context, id int64) error {
	return s.write(ctx, func(db *gorm.DB) error { return touched(db.Delete(&Delivery{ID: id})) })
}

// lock reads a delivery for a change. The error may be ErrNotFound.
func (t *Tx) lock(id int64) (Delivery, error) {
	var d Delivery
	return d, notFound(t.db.Clauses(clause.Locking{Strength: "UPDATE"}).First(&d, id).Error)
}

// TakePart keeps the lines of a part. One that was taken before changes
// nothing; the error is a *PartError for one that comes too early, and a
// *TwiceError for a line whose key is there already.
func (s *Store) TakePart(ctx context.Context, id int64, part int, lines []DeliveryLine) (d Delivery, err error) {
	err = s.Tx(ctx, func(tx *Tx) (err error) {
		if d, err = tx.lock(id); err != nil {
			return err
		}
		switch {
		case part < d.NextPart:
			return nil
		case d.Result != nil:
			return ErrFinished
		case part > d.NextPart:
			return &PartError{d.NextPart}
		}
		rows := make([]DeliveryLine, len(lines))
		for i, l := range lines {
			l.DeliveryID, l.Number = id, d.Lines+i+1
			rows[i] = l
		}
		if len(rows) > 0 {
			result := tx.db.Clauses(clause.OnConflict{DoNothing: true}).CreateInBatches(&rows, 1000)
			if result.Error != nil {
				return result.Error
			}
			if result.RowsAffected != int64(len(rows)) {
				return tx.twice(id, rows)
			}
		}
		d.NextPart, d.Lines, d.TouchedAt = d.NextPart+1, d.Lines+len(lines), s.Clock.Stamp()
		return tx.db.Model(&d).Select("next_part", "lines", "touched_at").Updates(&d).Error
	})
	return d, err
}

// twice finds the line that has the key of another.
func (t *Tx) twice(id int64, rows []DeliveryLine) error {
	seen := map[string]bool{}
	for _, r := range rows {
		var first DeliveryLine
		found := t.db.Where("delivery_id = ? AND key = ?", id, r.Key).Limit(1).Find(&first)
		if found.Error != nil {
			return found.Error
		}
		if seen[r.Key] || found.RowsAffected > 0 && first.Number != r.Number {
			return &TwiceError{r.Key}
		}
		seen[r.Key] = true
	}
	return errors.New("a part of a delivery was stored in part")
}

// FinishDelivery makes of a delivery what it is for, by the function, in one
// transaction. One that was finished before keeps its result.
func (s *Store) FinishDelivery(ctx context.Context, id int64, lines int,
	finish func(*Tx, Delivery) (api.DeliveryResult, error)) (result api.DeliveryResult, err error) {
	err = s.Tx(ctx, func(tx *Tx) error {
		d, err := tx.lock(id)
		switch {
		case err != nil:
			return err
		case d.Result != nil:
			result = *d.Result
			return nil
		case d.Lines != lines:
			return &PartError{d.NextPart}
		}
		if result, err = finish(tx, d); err != nil {
			return err
		}
		if err := tx.db.Where("delivery_id = ?", id).Delete(&DeliveryLine{}).Error; err != nil {
			return err
		}
		d.Result, d.TouchedAt = &result, s.Clock.Stamp()
		return tx.db.Model(&d).Select("result", "touched_at").Updates(&d).Error
	})
	return result, err
}

// EachLine calls each for every line of a delivery, in their order.
func (t *Tx) EachLine(id int64, each func(DeliveryLine) error) error {
	for last := 0; ; {
		var rows []DeliveryLine
		err := t.db.Where("delivery_id = ? AND number > ?", id, last).Order("number").Limit(1000).Find(&rows).Error
		if err != nil || len(rows) == 0 {
			return err
		}
		for _, r := range rows {
			if err := each(r); err != nil {
				return err
			}
		}
		last = rows[len(rows)-1].Number
	}
}
