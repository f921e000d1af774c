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
	Owner, Label           string // of endpoints; the label is KEY=VALUE
	Waived                 bool   // only what is waived, otherwise only what counts
	After                  string
	Limit                  int
}

// causeOrder puts the worst first, and of those what is at the most places, as the table of causes does.
const causeOrder = `(min(cause_rank(severity)) || ' ' ||
	lpad((99999999 - count(DISTINCT endpoint_id) - count(DISTINCT holding_id))::text, 8, '0') || ' ' || code || ' ' ||
	cause) COLLATE "C"`

// Causes returns one page, the worst first, and the cursor of the next. They are counted as findings come and go
// (migration 00013); for those of the page the findings are looked up. Only where a text is searched for, or those of
// some endpoints are wanted, they are counted now, from the findings of those.
func (s *Store) Causes(ctx context.Context, q CauseQuery) ([]Cause, string, error) {
	after := ""
	if q.After != "" {
		value, _, err := readCursor(q.After)
		if err != nil {
			return nil, "", err
		}
		after = value
	}
	db := s.counted(ctx, q, after)
	if q.Search != "" || q.Owner != "" || q.Label != "" {
		var err error
		if db, err = s.searched(ctx, q, after); err != nil {
			return nil, "", err
		}
	}
	var rows []Cause
	if err := db.Scan(&rows).Error; err != nil {
		return nil, "", err
	}
	if len(rows) > q.Limit {
		rows = rows[:q.Limit]
		return rows, writeCursor(rows[q.Limit-1].SortKey, 0), nil
	}
	return rows, "", nil
}

// counted is a page of the table of causes.
func (s *Store) counted(ctx context.Context, q CauseQuery, after string) *gorm.DB {
	page := s.read(ctx).Table("causes").Where("waived = ? AND severity = ? AND sort_key > ?", q.Waived, q.Severity,
		after)
	if q.Code != "" {
		page = page.Where("code = ?", q.Code)
	}
	mine := "FROM findings AS f WHERE f.cause = c.cause AND f.waived = c.waived AND " + present +
		" AND (c.severity = '' OR f.severity = c.severity)"
	said := func(key string) string {
		digest := `md5(finding ->> '` + key + `') COLLATE "C"`
		return "CASE WHEN (SELECT min(" + digest + ") " + mine + ") = (SELECT max(" + digest + ") " + mine +
			") THEN one.finding ->> '" + key + "' ELSE '' END AS " + key
	}
	return s.read(ctx).Table("(?) AS c", page.Order("sort_key").Limit(q.Limit+1)).
		Joins("JOIN LATERAL (SELECT finding, cause_about " + mine + " LIMIT 1) AS one ON true").
		Select("c.cause, c.code, c.sort_key, c.findings, c.endpoints, c.holdings, c.acknowledged, one.cause_about, " +
			severityOf("c.worst") + " AS severity, (SELECT min(first_seen) " + mine + ") AS first_seen, " +
			said("message") + ", " + said("remedy")).
		Order("c.sort_key")
}

// severityOf is the severity of a rank.
func severityOf(rank string) string {
	return "CASE " + rank + " WHEN '1' THEN 'fault' WHEN '2' THEN 'risk' WHEN '4' THEN 'note' ELSE 'none' END"
}

// searched is a page of the causes of findings that have a text, or are those of some endpoints.
func (s *Store) searched(ctx context.Context, q CauseQuery, after string) (*gorm.DB, error) {
	db, err := s.ofEndpoints(ctx, s.read(ctx).Table("findings AS f").Where(present+" AND f.waived = ?", q.Waived),
		q.Owner, q.Label)
	if err != nil {
		return nil, err
	}
	if q.Search != "" {
		db = matching(db, q.Search)
	}
	if q.Code != "" {
		db = db.Where("f.code = ?", q.Code)
	}
	if q.Severity != "" {
		db = db.Where("f.severity = ?", q.Severity)
	}
	return db.Select("cause, code, "+causeOrder+" AS sort_key, max(cause_about) AS cause_about, count(*) AS findings, "+
		"count(DISTINCT endpoint_id) AS endpoints, count(DISTINCT holding_id) AS holdings, "+
		"count(acknowledged) FILTER (WHERE acknowledged <> 'null') AS acknowledged, min(first_seen) AS first_seen, "+
		severityOf("min(cause_rank(severity))")+" AS severity, "+shared("message")+", "+shared("remedy")).
		Group("cause, code").Having(causeOrder+" > ?", after).Order("sort_key").Limit(q.Limit + 1), nil
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
