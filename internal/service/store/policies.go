package store

import (
	"context"
	"errors"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Policy is a policy of the service, in its newest version.
type Policy struct {
	Name      string `gorm:"primaryKey"`
	Builtin   bool
	Version   int // 0 of built-in ones
	UpdatedAt time.Time
}

// PolicyVersion is one version of a policy's text.
type PolicyVersion struct {
	Name      string `gorm:"primaryKey"`
	Version   int    `gorm:"primaryKey"`
	Text      string
	CreatedAt time.Time
}

// PolicyUse is how many endpoints and holdings are judged by a policy.
type PolicyUse struct{ Endpoints, Holdings int }

var (
	// ErrBuiltin says that a policy is built in and cannot be changed.
	ErrBuiltin = errors.New("the policy is built in and cannot be changed; save yours under another name")
	// ErrInUse says that a policy is assigned and cannot be removed.
	ErrInUse = errors.New("the policy is assigned to endpoints or holdings; assign another one first")
)

// SeedPolicies makes the built-in policies known by their names.
func (s *Store) SeedPolicies(ctx context.Context, names []string, at time.Time) error {
	rows := make([]Policy, len(names))
	for i, n := range names {
		rows[i] = Policy{Name: n, Builtin: true, UpdatedAt: at}
	}
	return s.write(ctx, func(db *gorm.DB) error {
		return db.Clauses(clause.OnConflict{DoNothing: true}).Create(&rows).Error
	})
}

// Policies returns all policies, by name.
func (s *Store) Policies(ctx context.Context) ([]Policy, error) {
	var out []Policy
	return out, s.read(ctx).Order("name").Find(&out).Error
}

// PolicyText returns a version of a policy, the newest for version 0; the
// error is ErrNotFound when it is not there, or built in.
func (s *Store) PolicyText(ctx context.Context, name string, version int) (PolicyVersion, error) {
	db := s.read(ctx).Where("name = ?", name).Order("version DESC")
	if version > 0 {
		db = db.Where("version = ?", version)
	}
	var out PolicyVersion
	return out, notFound(db.First(&out).Error)
}

// PolicyTexts returns the newest version of every policy that is not built in.
func (s *Store) PolicyTexts(ctx context.Context) ([]PolicyVersion, error) {
	var out []PolicyVersion
	err := s.read(ctx).Model(&PolicyVersion{}).Joins("JOIN policies USING (name, version)").
		Order("name").Find(&out).Error
	return out, err
}

// PolicyUses counts what is judged by each policy: assigned, or chosen when
// it was judged last.
func (s *Store) PolicyUses(ctx context.Context) (map[string]PolicyUse, error) {
	var rows []struct {
		Policy string
		PolicyUse
	}
	err := s.read(ctx).Raw(`SELECT policy, sum(endpoints) AS endpoints, sum(holdings) AS holdings FROM (
		SELECT coalesce(policy, judged_by) AS policy, count(*) AS endpoints, 0 AS holdings FROM endpoints
			WHERE policy IS NOT NULL OR judged_by <> '' GROUP BY 1
		UNION ALL SELECT policy, 0, count(*) FROM holdings GROUP BY policy) AS uses GROUP BY policy`).Scan(&rows).Error
	out := map[string]PolicyUse{}
	for _, r := range rows {
		out[r.Policy] = r.PolicyUse
	}
	return out, err
}

// SavePolicy keeps a new version of the policy, where one of the tags is its; the same text again is none.
func (s *Store) SavePolicy(ctx context.Context, name, text string, at time.Time, tags string) (version int,
	err error) {
	err = s.Tx(ctx, func(tx *Tx) (err error) {
		if tags != "" {
			if _, err := expected[Policy](tx, tags, "name = ?", name); errors.Is(err, ErrNotFound) {
				return ErrStale // it was removed
			} else if err != nil {
				return err
			}
		}
		version, err = tx.SavePolicy(name, text, at)
		return err
	})
	return version, err
}

// SavePolicy does the same in a transaction.
func (t *Tx) SavePolicy(name, text string, at time.Time) (version int, err error) {
	row := Policy{Name: name, UpdatedAt: at}
	if err := t.db.Clauses(clause.OnConflict{DoNothing: true}).Create(&row).Error; err != nil {
		return 0, err
	}
	if err := t.db.Clauses(clause.Locking{Strength: "UPDATE"}).First(&row, "name = ?", name).Error; err != nil {
		return 0, err
	}
	if row.Builtin {
		return 0, ErrBuiltin
	}
	var newest PolicyVersion
	err = t.db.Where("name = ? AND version = ?", name, row.Version).First(&newest).Error
	switch {
	case err == nil && newest.Text == text:
		return row.Version, nil
	case err != nil && !errors.Is(err, gorm.ErrRecordNotFound):
		return 0, err
	}
	version = row.Version + 1
	if err := t.db.Create(&PolicyVersion{Name: name, Version: version, Text: text, CreatedAt: at}).Error; err != nil {
		return 0, err
	}
	return version, t.db.Model(&row).Select("version", "updated_at").Updates(&Policy{Version: version,
		UpdatedAt: at}).Error
}

// RemovePolicy removes a policy with all its versions, where one of the tags is its.
func (s *Store) RemovePolicy(ctx context.Context, name, tags string) error {
	return s.Tx(ctx, func(t *Tx) error {
		row, err := expected[Policy](t, tags, "name = ?", name)
		if err != nil {
			return err
		}
		if row.Builtin {
			return ErrBuiltin
		}
		err = t.db.Delete(&row).Error
		if errors.Is(err, gorm.ErrForeignKeyViolated) {
			return ErrInUse
		}
		return err
	})
}
