package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// Cause is what present findings at some places have in common.
type Cause struct {
	Cause        string
	CauseAbout   string
	Code         string
	Severity     string // the worst
	Findings     int
	Endpoints    int
	Holdings     int
	Acknowledged int
	FirstSeen    time.Time
	Message      string // "" where it is not the same for all
	Remedy       string // "" where it is not the same for all
	SortKey      string
}

// CauseQuery selects causes by their findings.
type CauseQuery struct {
	Code, Severity, Search string
	Waived                 bool // only what is waived, otherwise only what counts
	After                  string
	Limit                  int
}

// causeOrder puts the worst first, and of those what is at the most places.
const causeOrder = `(min(` + severityRank + `) || ' ' || lpad((99999999 - ` + placeCount + `)::text, 8, '0') || ' ' || code || ' ' || cause)
	COLLATE "C"`

// placeCount is at how many places a cause is.
const placeCount = `(count(DISTINCT endpoint_id) + count(DISTINCT holding_id))`

// severityRank is the place of a severity among the others.
const severityRank = `CASE severity WHEN 'fault' THEN '1' WHEN 'risk' THEN '2' WHEN 'note' THEN '4' ELSE '3' END`

// Causes returns one page, the worst first, and the cursor of the next. Which causes are on the page is found by an
// index; only for those the findings are looked at.
func (s *Store) Causes(ctx context.Context, q CauseQuery) ([]Cause, string, error) {
	selected := func() *gorm.DB {
		db := s.read(ctx).Table("findings AS f").Where(present+" AND f.waived = ?", q.Waived)
		if q.Search != "" {
			db = matching(db, q.Search)
		}
		if q.Code != "" {
			db = db.Where("f.code = ?", q.Code)
		}
		if q.Severity != "" {
			db = db.Where("f.severity = ?", q.Severity)
		}
		return db
	}
	page := selected().Select("cause, code, " + causeOrder + " AS sort_key").Group("cause, code")
	if q.After != "" {
		value, _, err := readCursor(q.After)
		if err != nil {
			return nil, "", err
		}
		page = page.Having(causeOrder+" > ?", value)
	}
	db := selected().Joins("JOIN (?) AS page ON page.cause = f.cause AND page.code = f.code",
		page.Order("sort_key").Limit(q.Limit+1)).
		Select("f.cause, f.code, page.sort_key, max(cause_about) AS cause_about, count(*) AS findings, " +
			"count(DISTINCT endpoint_id) AS endpoints, count(DISTINCT holding_id) AS holdings, " +
			"count(acknowledged) FILTER (WHERE acknowledged <> 'null') AS acknowledged, " +
			"min(first_seen) AS first_seen, (array_agg(severity ORDER BY " + severityRank + "))[1] AS severity, " +
			shared("message") + ", " + shared("remedy")).
		Group("f.cause, f.code, page.sort_key")
	var rows []Cause
	if err := db.Order("page.sort_key").Scan(&rows).Error; err != nil {
		return nil, "", err
	}
	if len(rows) > q.Limit {
		rows = rows[:q.Limit]
		return rows, writeCursor(rows[q.Limit-1].SortKey, 0), nil
	}
	return rows, "", nil
}

// shared is what the findings of a cause say where all say the same.
func shared(key string) string {
	text := "(finding ->> '" + key + "') COLLATE \"C\""
	return "CASE WHEN min(" + text + ") = max(" + text + ") THEN min(" + text + ") ELSE '' END AS " + key
}

// matching selects findings with the text in endpoint, holding, path or message.
func matching(db *gorm.DB, text string) *gorm.DB {
	return db.Where("f.search ILIKE ?", "%"+escapeLike(text)+"%")
}
