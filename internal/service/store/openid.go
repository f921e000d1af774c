package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// OpenIDTry is a sign-in that was sent to the OpenID provider.
type OpenIDTry struct {
	State    []byte `gorm:"primaryKey"` // its digest
	Nonce    string
	Verifier string
	GoesTo   string
	EndsAt   time.Time
}

// TableName is that of the sign-ins.
func (OpenIDTry) TableName() string { return "openid_tries" }

// BeginOpenID keeps a sign-in, and forgets those that nobody came back from.
func (s *Store) BeginOpenID(ctx context.Context, try *OpenIDTry, now time.Time) error {
	return s.write(ctx, func(db *gorm.DB) error {
		if err := db.Where("ends_at < ?", now).Delete(&OpenIDTry{}).Error; err != nil {
			return err
		}
		return db.Create(try).Error
	})
}

// TakeOpenID returns a sign-in that has not ended, once.
func (s *Store) TakeOpenID(ctx context.Context, state []byte, now time.Time) (try OpenIDTry, err error) {
	err = s.write(ctx, func(db *gorm.DB) error {
		return touched(db.Raw("DELETE FROM openid_tries WHERE state = ? AND ends_at >= ? RETURNING *", state, now).
			Scan(&try))
	})
	return try, err
}

// SignInOpenID is the person of the issuer and subject, made where there is none yet, with name and role as the
// provider tells them now. Sessions with another role end. ErrNameTaken says that somebody else here has the name.
func (s *Store) SignInOpenID(ctx context.Context, as Person) (p Person, err error) {
	err = s.Tx(ctx, func(tx *Tx) error {
		if err := tx.Sole("people"); err != nil {
			return err
		}
		p = Person{}
		err := tx.db.Where("openid_issuer = ? AND openid_subject = ?", as.OpenIDIssuer, as.OpenIDSubject).Limit(1).
			Find(&p).Error
		if err != nil {
			return err
		}
		var others int64
		err = tx.db.Model(&Person{}).Where("lower(name) = lower(?) AND id <> ?", as.Name, p.ID).Count(&others).Error
		switch {
		case err != nil:
			return err
		case others > 0:
			return ErrNameTaken
		case p.ID == 0:
			p = as
			return tx.db.Create(&p).Error
		case p.Role != as.Role:
			if err := tx.db.Where("person_id = ?", p.ID).Delete(&Session{}).Error; err != nil {
				return err
			}
		}
		p.Name, p.Role = as.Name, as.Role
		return tx.db.Model(&p).Select("name", "role").Updates(&p).Error
	})
	return p, err
}
