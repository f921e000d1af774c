package store

import (
	"context"
	"strings"

	"gorm.io/gorm"

	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/life"
)

// Provisionally returns the findings of a judgement whose audit has not ended. Those that are known go on as they were;
// the others are new. What stands because not everything was visited comes after them.
func Provisionally(e Endpoint, observed *facts.Endpoint, j judge.Judgement, known []FindingRow) []FindingRow {
	before := map[string]FindingRow{}
	for _, f := range known {
		before[f.ID] = f
	}
	out := make([]FindingRow, len(j.Findings))
	for i, f := range j.Findings {
		row := FindingRow{Finding: rowOf(j.Target, f), Target: e.Target}
		row.EndpointID, row.AuditID = &e.ID, e.AuditID
		row.lives(before[row.ID].life().Seen(*e.JudgedAt))
		row.Acknowledged = before[row.ID].Acknowledged
		out[i] = row
	}
	return append(out, standing(known, func(f FindingRow) Finding { return f.Finding }, observed, j)...)
}

// anyState selects findings in every state.
const anyState = "any"

// FindingQuery selects findings.
type FindingQuery struct {
	ID         string // "" for all
	EndpointID int64
	HoldingID  int64
	Code       string
	Cause      string
	Severity   string
	State      string // "" for all that are not gone, "any" for those too
	Waived     string // "" for all, "yes" or "no"
	Owner      string // of endpoints
	Label      string // KEY=VALUE of endpoints
	Search     string
	After      string
	Limit      int
}

// FindingRow is a finding with its endpoint's target, or its holding's name.
type FindingRow struct {
	Finding
	Target  string
	Owner   string
	Holding string
	SortKey string
}

// present is what lists show. The state stands in the text, so that the indexes for it are found.
const present = "f.state <> 'gone'"

// ofEndpointsAndHoldings gives findings the names of what they are about.
const ofEndpointsAndHoldings = "LEFT JOIN endpoints ON endpoints.id = endpoint_id " +
	"LEFT JOIN holdings ON holdings.id = holding_id"

// Findings returns one page, the worst first and what is waived last, and the cursor of the next. The order and what is
// searched are kept by the database (migration 00012).
func (s *Store) Findings(ctx context.Context, q FindingQuery) ([]FindingRow, string, error) {
	db := s.read(ctx).Table("findings AS f")
	if q.State == anyState {
		q.State = ""
	} else if q.State == "" {
		db = db.Where(present)
	}
	for column, value := range map[string]string{"id": q.ID, "cause": q.Cause, "code": q.Code, "severity": q.Severity,
		"state": q.State} {
		if value != "" {
			db = db.Where("f."+column+" = ?", value)
		}
	}
	if q.Waived != "" {
		db = db.Where("f.waived = ?", q.Waived == "yes")
	}
	db, err := s.ofEndpoints(ctx, db, q.Owner, q.Label)
	if err != nil {
		return nil, "", err
	}
	if q.EndpointID != 0 {
		db = db.Where("f.endpoint_id = ?", q.EndpointID)
	}
	if q.HoldingID != 0 {
		db = db.Where("f.holding_id = ?", q.HoldingID)
	}
	if q.Search != "" {
		db = matching(db, q.Search)
	}
	if q.After != "" {
		value, _, err := readCursor(q.After)
		if err != nil {
			return nil, "", err
		}
		db = db.Where("sort_key > ?", value)
	}
	var rows []FindingRow
	// Only those of the page are joined, and not all that they were chosen from.
	if err := s.read(ctx).Table("(?) AS f", db.Order("sort_key").Limit(q.Limit+1)).
		Select("f.*, coalesce(target, '') AS target, coalesce(owner, '') AS owner, coalesce(name, '') AS holding").
		Joins(ofEndpointsAndHoldings).Order("sort_key").Scan(&rows).Error; err != nil {
		return nil, "", err
	}
	if len(rows) > q.Limit {
		rows = rows[:q.Limit]
		return rows, writeCursor(rows[q.Limit-1].SortKey, 0), nil
	}
	return rows, "", nil
}

// mostNamed is how many endpoints a question for findings names: of more, enough are soon met in any order.
const mostNamed = 10_000

// ofEndpoints selects findings of endpoints of an owner or with a label. Few are named in the question, so that the
// database knows that there are few, and does not look for them among all findings.
func (s *Store) ofEndpoints(ctx context.Context, db *gorm.DB, owner, label string) (*gorm.DB, error) {
	if owner == "" && label == "" {
		return db, nil
	}
	var ids []string
	err := belonging(s.read(ctx).Model(&Endpoint{}), owner, label, "").Limit(mostNamed+1).Pluck("id", &ids).Error
	if len(ids) > mostNamed {
		all := belonging(s.read(ctx).Model(&Endpoint{}).Select("id"), owner, label, "")
		return db.Where("f.endpoint_id IN (?)", all), err
	}
	return db.Where("f.endpoint_id = ANY (?::bigint[])", "{"+strings.Join(ids, ",")+"}"), err
}

// Present returns the findings of endpoints that are not gone, by endpoint.
func (s *Store) Present(ctx context.Context, endpoints []int64) (map[int64][]Finding, error) {
	var rows []Finding
	if err := s.read(ctx).Where("endpoint_id IN ? AND state <> ?", endpoints, life.Gone).Find(&rows).Error; err != nil {
		return nil, err
	}
	out := map[int64][]Finding{}
	for _, r := range rows {
		out[*r.EndpointID] = append(out[*r.EndpointID], r)
	}
	return out, nil
}
