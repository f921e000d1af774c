package store

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"strconv"
	"strings"

	"gorm.io/gorm/clause"
)

// ErrStale says that a record is not any more as the caller has read it.
var ErrStale = errors.New("somebody else has changed this since it was read; read it again, and repeat the change")

// tagged is a record that people change. Its tag changes with what they set, and with nothing else.
type tagged interface{ Tag() string }

func tagOf(settings ...any) string {
	text, _ := json.Marshal(settings) // settings came as JSON
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:12])
}

// Tag is of its settings.
func (e Endpoint) Tag() string { return tagOf(e.Settings) }

// Tag is of its name and settings.
func (s Schedule) Tag() string { return tagOf(s.Name, s.Settings) }

// Tag is of what it is judged by.
func (h Holding) Tag() string { return tagOf(h.Policy, h.Trust, h.Audiences) }

// Tag is its version.
func (p Policy) Tag() string { return strconv.Itoa(p.Version) }

// expected holds a record until the transaction ends, and refuses with ErrStale where none of the tags is its: the
// value of an If-Match header (RFC 9110, section 13.1.1), "" for anything.
func expected[T tagged](t *Tx, tags string, condition string, value any) (T, error) {
	var row T
	err := notFound(t.db.Clauses(clause.Locking{Strength: "UPDATE"}).First(&row, condition, value).Error)
	if err == nil && !fits(tags, row.Tag()) {
		err = ErrStale
	}
	return row, err
}

func fits(tags, tag string) bool {
	if tags == "" {
		return true
	}
	for want := range strings.SplitSeq(tags, ",") {
		if want = strings.TrimSpace(want); want == "*" || want == `"`+tag+`"` {
			return true
		}
	}
	return false
}
