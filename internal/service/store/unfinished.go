package store

import (
	"context"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// UnfinishedLogins are the connections from one vantage to one database server that ended before the login.
type UnfinishedLogins struct {
	Vantage     string `gorm:"primaryKey"`
	Address     string `gorm:"primaryKey"`
	Connections int
	Since       time.Time
}

// Unfinished returns how many connections to the address ended before the login, and since when they are counted.
func (s *Store) Unfinished(ctx context.Context, vantage, address string) (UnfinishedLogins, error) {
	u := UnfinishedLogins{Vantage: vantage, Address: address}
	err := s.db.WithContext(ctx).Where(&u).Limit(1).Find(&u).Error
	return u, err
}

// AddUnfinished counts more of them.
func (s *Store) AddUnfinished(ctx context.Context, u UnfinishedLogins) error {
	return s.write(ctx, func(db *gorm.DB) error {
		return db.Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "vantage"}, {Name: "address"}},
			DoUpdates: clause.Assignments(map[string]any{
				"connections": gorm.Expr("unfinished_logins.connections + excluded.connections")})}).Create(&u).Error
	})
}

// ForgetUnfinished counts from zero again for every address at which the endpoint was visited, since its server does
// too. It returns how many connections are forgotten.
func (s *Store) ForgetUnfinished(ctx context.Context, endpoint int64) (connections int, err error) {
	if _, err := s.Endpoint(ctx, endpoint); err != nil {
		return 0, err
	}
	err = s.write(ctx, func(db *gorm.DB) error {
		var gone []UnfinishedLogins
		visited := db.Model(&Place{}).Select("address").Where("endpoint_id = ?", endpoint)
		if err := db.Clauses(clause.Returning{}).Where("address IN (?)", visited).Delete(&gone).Error; err != nil {
			return err
		}
		connections = 0
		for _, u := range gone {
			connections += u.Connections
		}
		return nil
	})
	return connections, err
}
