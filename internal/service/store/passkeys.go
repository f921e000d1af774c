package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Passkey is a second factor of somebody who signs in with a password.
type Passkey struct {
	ID           int64
	PersonID     int64
	Name         string
	CredentialID []byte
	Credential   json.RawMessage `gorm:"type:jsonb"` // public key, counter, flags
	CreatedAt    time.Time
	UsedAt       *time.Time
	Person       Person
}

// PasskeyTry is what a browser was asked to sign.
type PasskeyTry struct {
	Digest    []byte `gorm:"primaryKey"`
	PersonID  int64
	Adds      bool            // a passkey; else it signs in
	Challenge json.RawMessage `gorm:"type:jsonb"`
	EndsAt    time.Time
}

// MostPasskeys is how many one person may have.
const MostPasskeys = 20

var (
	// ErrPasskeys says that somebody has as many as there may be.
	ErrPasskeys = fmt.Errorf("you have %d passkeys already: remove one first", MostPasskeys)
	// ErrPasskeyThere says that the passkey is somebody's already.
	ErrPasskeyThere = errors.New("this passkey is here already; choose another")
)

// Passkeys are those of somebody, the oldest first.
func (s *Store) Passkeys(ctx context.Context, person int64) ([]Passkey, error) {
	var out []Passkey
	return out, s.read(ctx).Where("person_id = ?", person).Order("id").Find(&out).Error
}

// passkeyCounts says how many each person has, of those who have one.
func passkeyCounts(db *gorm.DB) (map[int64]int, error) {
	var rows []struct {
		PersonID int64
		N        int
	}
	err := db.Model(&Passkey{}).Select("person_id, count(*) AS n").Group("person_id").Scan(&rows).Error
	out := map[int64]int{}
	for _, row := range rows {
		out[row.PersonID] = row.N
	}
	return out, err
}

// BeginPasskey keeps what a browser was asked, and forgets what none came back with.
func (s *Store) BeginPasskey(ctx context.Context, try *PasskeyTry, now time.Time) error {
	return s.write(ctx, func(db *gorm.DB) error {
		if err := db.Where("ends_at < ?", now).Delete(&PasskeyTry{}).Error; err != nil {
			return err
		}
		return db.Create(try).Error
	})
}

// TakePasskey returns what a browser was asked, once.
func (s *Store) TakePasskey(ctx context.Context, digest []byte, adds bool, now time.Time) (try PasskeyTry, err error) {
	err = s.write(ctx, func(db *gorm.DB) error {
		return touched(db.Raw("DELETE FROM passkey_tries WHERE digest = ? AND adds = ? AND ends_at >= ? RETURNING *",
			digest, adds, now).Scan(&try))
	})
	return try, err
}

// AddPasskey stores a new one. All other sessions of the person end: they were begun without it.
func (s *Store) AddPasskey(ctx context.Context, p *Passkey, keep []byte) error {
	return s.Tx(ctx, func(tx *Tx) error {
		if err := tx.Sole("people"); err != nil {
			return err
		}
		var there int64
		if err := tx.db.Model(&Passkey{}).Where("person_id = ?", p.PersonID).Count(&there).Error; err != nil {
			return err
		}
		if there >= MostPasskeys {
			return ErrPasskeys
		}
		if err := tx.db.Omit(clause.Associations).Create(p).Error; err != nil {
			if errors.Is(err, gorm.ErrDuplicatedKey) {
				return ErrPasskeyThere
			}
			return err
		}
		return tx.endSessions(p.PersonID, keep)
	})
}

// PasskeyUsed stores a passkey as it is after a sign-in, unless it was removed meanwhile.
func (s *Store) PasskeyUsed(ctx context.Context, person int64, id []byte, key json.RawMessage, at time.Time) error {
	return s.write(ctx, func(db *gorm.DB) error {
		return touched(db.Model(&Passkey{}).Where("person_id = ? AND credential_id = ?", person, id).
			Updates(map[string]any{"credential": key, "used_at": at}))
	})
}

// RemovePasskey takes one away from somebody.
func (s *Store) RemovePasskey(ctx context.Context, id, person int64) (out Passkey, err error) {
	err = s.write(ctx, func(db *gorm.DB) error {
		return touched(db.Raw("DELETE FROM passkeys WHERE id = ? AND person_id = ? RETURNING *", id, person).Scan(&out))
	})
	return out, err
}

// endSessions ends those of somebody, but for the one of the digest, with the sign-ins that are under way.
func (t *Tx) endSessions(person int64, keep []byte) error {
	if err := t.db.Where("person_id = ?", person).Delete(&PasskeyTry{}).Error; err != nil {
		return err
	}
	return t.db.Where("person_id = ? AND digest IS DISTINCT FROM ?", person, keep).Delete(&Session{}).Error
}
