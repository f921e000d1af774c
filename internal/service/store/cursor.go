package store

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"strings"
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

// escapeLike makes the text literal inside a LIKE pattern.
func escapeLike(text string) string {
	return strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(text)
}
