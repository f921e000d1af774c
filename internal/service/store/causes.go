package store

import (
	"context"
	"time"

	"gorm.io/gorm"

	"nurvik/core/life"
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

// Causes returns one page, the worst first, and the cursor of the next.
func (s *Store) Causes(ctx context.Context, q CauseQuery) ([]Cause, string, error) {
	db := s.read(ctx).Table("findings AS f")
	if q.Search != "" {
		db = matching(s.read(ctx).Table("(?) AS f", s.read(ctx).Model(&Finding{}).
			Select("findings.*, endpoints.target, holdings.name").Joins(ofEndpointsAndHoldings)), q.Search)
	}
	db = db.Where("state <> ? AND waived = ?", life.Gone, q.Waived)
	if q.Code != "" {
		db = db.Where("code = ?", q.Code)
	}
	if q.Severity != "" {
		db = db.Where("severity = ?", q.Severity)
	}
	db = db.Select("cause, code, max(cause_about) AS cause_about, count(*) AS findings, " +
		"count(DISTINCT endpoint_id) AS endpoints, count(DISTINCT holding_id) AS holdings, " +
		"count(acknowledged) FILTER (WHERE acknowledged <> 'null') AS acknowledged, " +
		"min(first_seen) AS first_seen, (array_agg(severity ORDER BY " + severityRank + "))[1] AS severity, " +
		shared("message") + shared("remedy") + causeOrder + " AS sort_key").
		Group("cause, code")
	if q.After != "" {
		value, _, err := readCursor(q.After)
		if err != nil {
			return nil, "", err
		}
		db = db.Having(causeOrder+" > ?", value)
	}
	var rows []Cause
	if err := db.Order("sort_key").Limit(q.Limit + 1).Scan(&rows).Error; err != nil {
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
	text := "finding ->> '" + key + "'"
	return "CASE WHEN count(DISTINCT " + text + ") = 1 THEN min(" + text + ") ELSE '' END AS " + key + ", "
}

// matching selects findings with the text in endpoint, holding, path or message.
func matching(db *gorm.DB, text string) *gorm.DB {
	like := "%" + escapeLike(text) + "%"
	return db.Where("target ILIKE ? OR name ILIKE ? OR path ILIKE ? OR finding ->> 'message' ILIKE ?", like, like, like,
		like)
}
