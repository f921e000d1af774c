package store

import (
	"cmp"
	"database/sql/driver"
	"fmt"
	"maps"
	"slices"

	"github.com/jackc/pgx/v5/pgtype"
	"gorm.io/gorm/clause"
)

// upsert stores rows in portions; none is no work.
func upsert[T any](t *Tx, rows []T, conflict clause.OnConflict) error {
	if len(rows) == 0 {
		return nil
	}
	return t.db.Clauses(conflict).CreateInBatches(&rows, 500).Error
}

// values are a map's values in the order of their keys as text, so that all
// transactions lock rows in one order.
func values[K comparable, V any](m map[K]V) []V {
	keys := slices.Collect(maps.Keys(m))
	slices.SortFunc(keys, func(a, b K) int { return cmp.Compare(fmt.Sprint(a), fmt.Sprint(b)) })
	out := make([]V, len(keys))
	for i, k := range keys {
		out[i] = m[k]
	}
	return out
}

// textArray is a column of the type text[].
type textArray []string

// Value implements driver.Valuer.
func (a textArray) Value() (driver.Value, error) {
	if a == nil {
		a = textArray{}
	}
	buffer, err := pgtype.NewMap().Encode(pgtype.TextArrayOID, pgtype.TextFormatCode, []string(a), nil)
	return string(buffer), err
}

// Scan implements sql.Scanner.
func (a *textArray) Scan(value any) error {
	text, ok := value.(string)
	if !ok {
		return fmt.Errorf("a list of texts is stored as %T", value)
	}
	return pgtype.NewMap().Scan(pgtype.TextArrayOID, pgtype.TextFormatCode, []byte(text), (*[]string)(a))
}
