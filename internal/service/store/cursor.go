package store

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"strings"

	"gorm.io/gorm"
)

// ErrCursor says that a cursor was not made by this service.
var ErrCursor = errors.New("the cursor is not one that a list gave")

// cursor is the sort key and the identifier of a page's last row.
type cursor struct {
	Key string `json:"k"`
	ID  int64  `json:"i"`
}

func writeCursor(key string, id int64) string {
	data, _ := json.Marshal(cursor{key, id}) // strings and numbers always marshal
	return base64.RawURLEncoding.EncodeToString(data)
}

func readCursor(text string) (string, int64, error) {
	data, err := base64.RawURLEncoding.DecodeString(text)
	if err != nil {
		return "", 0, ErrCursor
	}
	var c cursor
	if json.Unmarshal(data, &c) != nil || strings.ContainsRune(c.Key, 0) {
		return "", 0, ErrCursor
	}
	return c.Key, c.ID, nil
}

// newest returns one page of rows, the newest first, and the cursor of the next.
func newest[T any](db *gorm.DB, after string, limit int, id func(T) int64) ([]T, string, error) {
	db = db.Order("id DESC").Limit(limit + 1)
	if after != "" {
		_, last, err := readCursor(after)
		if err != nil {
			return nil, "", err
		}
		db = db.Where("id < ?", last)
	}
	var out []T
	if err := db.Find(&out).Error; err != nil {
		return nil, "", err
	}
	if len(out) > limit {
		return out[:limit], writeCursor("", id(out[limit-1])), nil
	}
	return out, "", nil
}

// escapeLike makes the text literal inside a LIKE pattern.
func escapeLike(text string) string {
	return strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(text)
}
