package store

import (
	"context"
	"errors"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Person is somebody who may sign in.
type Person struct {
	ID         int64
	Name       string
	Role       string
	Password   string // its hash
	Disabled   bool
	CreatedAt  time.Time
	SignedInAt *time.Time

	// Who signs in at an OpenID provider has these instead of a password.
	OpenIDIssuer  string `gorm:"column:openid_issuer"`
	OpenIDSubject string `gorm:"column:openid_subject"`

	// Passkeys is how many there are, where People or ChangePerson returned the person.
	Passkeys int `gorm:"-"`
}

// ByOpenID reports whether the person signs in at an OpenID provider.
func (p Person) ByOpenID() bool { return p.OpenIDSubject != "" }

// TableName is that of people.
func (Person) TableName() string { return "people" }

// Session is a sign-in that has not ended. The digest is that of its cookie.
type Session struct {
	Digest    []byte `gorm:"primaryKey"`
	PersonID  int64
	CreatedAt time.Time
	SeenAt    time.Time
	EndsAt    time.Time
	Person    Person
}

// Token is a token of the API. The digest is that of its text.
type Token struct {
	ID        int64
	PersonID  int64
	Name      string
	Role      string
	Label     string // KEY=VALUE of the endpoints that it is for, "" for all
	Vantage   string // of a worker
	Prefix    string
	Digest    []byte
	CreatedAt time.Time
	ExpiresAt *time.Time
	UsedAt    *time.Time
	Person    Person
}

// setUpCode is a one-time code for the first administrator, by its digest.
type setUpCode struct {
	Digest []byte `gorm:"primaryKey"`
	EndsAt time.Time
}

// TableName is that of the codes.
func (setUpCode) TableName() string { return "setup_codes" }

var (
	// ErrLastAdministrator says that nobody would be left who can manage people.
	ErrLastAdministrator = errors.New("this is the only administrator who can sign in; make another one first")
	// ErrNameTaken says that somebody has the name.
	ErrNameTaken = errors.New("somebody has that name already; choose another")
	// ErrSetUp says that there is somebody already, or the code is not the one that was printed.
	ErrSetUp = errors.New("the set-up address has been used or has expired. Where there is no administrator yet, " +
		"start the service again for a new one; otherwise sign in")
)

// People returns everybody, by name.
func (s *Store) People(ctx context.Context) ([]Person, error) {
	var out []Person
	if err := s.read(ctx).Order("lower(name)").Find(&out).Error; err != nil {
		return nil, err
	}
	counts, err := passkeyCounts(s.read(ctx))
	for i := range out {
		out[i].Passkeys = counts[out[i].ID]
	}
	return out, err
}

// Person returns one by number.
func (s *Store) Person(ctx context.Context, id int64) (Person, error) {
	var out Person
	return out, notFound(s.read(ctx).First(&out, id).Error)
}

// PersonNamed returns the one of the name.
func (s *Store) PersonNamed(ctx context.Context, name string) (Person, error) {
	var out Person
	return out, notFound(s.read(ctx).Where("lower(name) = lower(?)", name).First(&out).Error)
}

// AddPerson stores somebody new; ErrNameTaken when the name is taken.
func (s *Store) AddPerson(ctx context.Context, p *Person) error {
	return s.write(ctx, func(db *gorm.DB) error { return taken(db.Create(p).Error) })
}

func taken(err error) error {
	if errors.Is(err, gorm.ErrDuplicatedKey) {
		return ErrNameTaken
	}
	return err
}

// SetUp stores the first person by a one-time code, which is then gone with all others.
func (s *Store) SetUp(ctx context.Context, code []byte, p *Person) error {
	return s.Tx(ctx, func(tx *Tx) error {
		if err := tx.Sole("people"); err != nil {
			return err
		}
		var codes int64
		there, err := administrators(tx.db)
		if err != nil {
			return err
		}
		err = tx.db.Model(&setUpCode{}).Where("digest = ? AND ends_at > ?", code, p.CreatedAt).Count(&codes).Error
		if err != nil {
			return err
		}
		if there || codes == 0 {
			return ErrSetUp
		}
		if err := tx.db.Exec("DELETE FROM setup_codes").Error; err != nil {
			return err
		}
		return taken(tx.db.Create(p).Error)
	})
}

// administrators reports whether there is one who may sign in. Others may be there without one: whoever comes from an
// OpenID provider.
func administrators(db *gorm.DB) (bool, error) {
	var n int64
	err := db.Model(&Person{}).Where("role = 'administrator' AND NOT disabled").Count(&n).Error
	return n > 0, err
}

// NeedsSetUp reports whether the first administrator is still to be made.
func (s *Store) NeedsSetUp(ctx context.Context) (bool, error) {
	there, err := administrators(s.read(ctx))
	return !there, err
}

// OfferSetUp keeps a one-time code, and reports whether it is needed: whether there is no administrator.
func (s *Store) OfferSetUp(ctx context.Context, code []byte, ends time.Time) (needed bool, err error) {
	err = s.Tx(ctx, func(tx *Tx) error {
		if there, err := administrators(tx.db); err != nil || there {
			return err
		}
		needed = true
		return tx.db.Create(&setUpCode{Digest: code, EndsAt: ends}).Error
	})
	return needed, err
}

// ChangePerson changes somebody, unless nobody could manage people then. Their sessions end, but for the one of the
// digest: who has another role, another password or no access any more signs in anew. A change to no passkeys
// removes them.
func (s *Store) ChangePerson(ctx context.Context, id int64, keep []byte, change func(*Person)) (before, after Person,
	err error) {
	err = s.Tx(ctx, func(tx *Tx) error {
		if err := tx.Sole("people"); err != nil {
			return err
		}
		if err := notFound(tx.db.First(&before, id).Error); err != nil {
			return err
		}
		counts, err := passkeyCounts(tx.db.Where("person_id = ?", id))
		if err != nil {
			return err
		}
		before.Passkeys = counts[id]
		after = before
		change(&after)
		if after.Passkeys < before.Passkeys {
			if err := tx.db.Where("person_id = ?", id).Delete(&Passkey{}).Error; err != nil {
				return err
			}
		}
		if err := taken(tx.db.Save(&after).Error); err != nil {
			return err
		}
		if before.Role != after.Role || before.Password != after.Password || after.Disabled {
			if err := tx.endSessions(id, keep); err != nil {
				return err
			}
		}
		return tx.someAdministrator(before)
	})
	return before, after, err
}

// RemovePerson removes somebody with sessions and tokens, unless nobody could manage people then.
func (s *Store) RemovePerson(ctx context.Context, id int64) (before Person, err error) {
	err = s.Tx(ctx, func(tx *Tx) error {
		if err := tx.Sole("people"); err != nil {
			return err
		}
		if err := notFound(tx.db.First(&before, id).Error); err != nil {
			return err
		}
		if err := tx.db.Delete(&before).Error; err != nil {
			return err
		}
		return tx.someAdministrator(before)
	})
	return before, err
}

// someAdministrator refuses what takes away the last administrator, which the person was.
func (t *Tx) someAdministrator(was Person) error {
	if was.Role != "administrator" || was.Disabled {
		return nil
	}
	left, err := administrators(t.db)
	if err == nil && !left {
		err = ErrLastAdministrator
	}
	return err
}

// SignIn begins a session, and forgets that sign-ins with the name failed.
func (s *Store) SignIn(ctx context.Context, x *Session) error {
	return s.Tx(ctx, func(tx *Tx) error {
		if err := tx.db.Omit(clause.Associations).Create(x).Error; err != nil {
			return err
		}
		err := tx.db.Model(&Person{ID: x.PersonID}).Update("signed_in_at", x.CreatedAt).Error
		if err != nil {
			return err
		}
		return tx.db.Exec("DELETE FROM failed_sign_ins WHERE name = (SELECT lower(name) FROM people WHERE id = ?)",
			x.PersonID).Error
	})
}

// Session returns the session of a cookie with its person, unless it has ended.
func (s *Store) Session(ctx context.Context, digest []byte, now time.Time) (Session, error) {
	var out Session
	return out, notFound(s.read(ctx).Joins("Person").Where("digest = ? AND ends_at > ?", digest, now).First(&out).Error)
}

// Seen says that a session was used, and until when it lasts now.
func (s *Store) Seen(ctx context.Context, digest []byte, at, ends time.Time) error {
	return s.write(ctx, func(db *gorm.DB) error {
		return db.Model(&Session{Digest: digest}).Updates(map[string]any{"seen_at": at, "ends_at": ends}).Error
	})
}

// EndSession ends one session.
func (s *Store) EndSession(ctx context.Context, digest []byte) error {
	return s.write(ctx, func(db *gorm.DB) error { return db.Delete(&Session{Digest: digest}).Error })
}

// EndSessions ends every session of somebody.
func (s *Store) EndSessions(ctx context.Context, person int64) error {
	return s.write(ctx, func(db *gorm.DB) error {
		return (&Tx{db: db}).endSessions(person, nil)
	})
}

// AddToken stores a new token.
func (s *Store) AddToken(ctx context.Context, t *Token) error {
	return s.write(ctx, func(db *gorm.DB) error { return db.Omit(clause.Associations).Create(t).Error })
}

// Tokens returns the tokens of somebody, or of everybody for 0, the newest first.
func (s *Store) Tokens(ctx context.Context, person int64) ([]Token, error) {
	db := s.read(ctx).Joins("Person").Order("tokens.id DESC")
	if person != 0 {
		db = db.Where("person_id = ?", person)
	}
	var out []Token
	return out, db.Find(&out).Error
}

// TokenOf returns the token of a digest with its person, unless it has expired.
func (s *Store) TokenOf(ctx context.Context, digest []byte, now time.Time) (Token, error) {
	var out Token
	return out, notFound(s.read(ctx).Joins("Person").
		Where("tokens.digest = ? AND (expires_at IS NULL OR expires_at > ?)", digest, now).First(&out).Error)
}

// Used says that a token was used.
func (s *Store) Used(ctx context.Context, id int64, at time.Time) error {
	return s.write(ctx, func(db *gorm.DB) error { return db.Model(&Token{ID: id}).Update("used_at", at).Error })
}

// RemoveToken takes a token back, of somebody or, for 0, of anybody.
func (s *Store) RemoveToken(ctx context.Context, id, person int64) (out Token, err error) {
	err = s.Tx(ctx, func(tx *Tx) error {
		db := tx.db.Joins("Person")
		if person != 0 {
			db = db.Where("person_id = ?", person)
		}
		if err := notFound(db.First(&out, id).Error); err != nil {
			return err
		}
		return tx.db.Delete(&Token{ID: id}).Error
	})
	return out, err
}

// ClosedTo is until when no sign-in with the name is tried, zero where it may be.
func (s *Store) ClosedTo(ctx context.Context, name string) (time.Time, error) {
	var out []time.Time
	err := s.read(ctx).Table("failed_sign_ins").Where("name = ?", strings.ToLower(name)).
		Pluck("closed_to", &out).Error
	if err != nil || len(out) == 0 {
		return time.Time{}, err
	}
	return out[0], nil
}

// SignInFailed counts a failed sign-in; pause is how long the name is closed after so many. What is a day old is
// forgotten, so that names somebody made up do not pile up.
func (s *Store) SignInFailed(ctx context.Context, name string, at time.Time,
	pause func(failures int) time.Duration) error {
	return s.Tx(ctx, func(tx *Tx) error {
		if err := tx.db.Exec("DELETE FROM failed_sign_ins WHERE closed_to < ?",
			at.Add(-24*time.Hour)).Error; err != nil {
			return err
		}
		name = strings.ToLower(name)
		var failures int
		err := tx.db.Raw("INSERT INTO failed_sign_ins VALUES (?, 1, ?) ON CONFLICT (name) DO UPDATE "+
			"SET failures = failed_sign_ins.failures + 1 RETURNING failures", name, at).Scan(&failures).Error
		if err != nil {
			return err
		}
		return tx.db.Exec("UPDATE failed_sign_ins SET closed_to = ? WHERE name = ?", at.Add(pause(failures)),
			name).Error
	})
}

// Empty reports whether nothing was ever kept: no person, endpoint, holding and audit.
func (s *Store) Empty(ctx context.Context) (bool, error) {
	var full bool
	err := s.read(ctx).Raw("SELECT EXISTS (SELECT FROM people) OR EXISTS (SELECT FROM endpoints) OR " +
		"EXISTS (SELECT FROM holdings) OR EXISTS (SELECT FROM audits)").Scan(&full).Error
	return !full, err
}

// Working reports whether a process has said within the time that it works on the database.
func (s *Store) Working(ctx context.Context, within time.Duration) (bool, error) {
	var found bool
	err := s.read(ctx).Raw("SELECT EXISTS (SELECT FROM workers WHERE beat_at > now() - make_interval(secs => ?))",
		within.Seconds()).Scan(&found).Error
	return found, err
}
