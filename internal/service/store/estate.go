package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// ErrExists says that an endpoint is in the estate already.
var ErrExists = errors.New("the endpoint is in the estate already")

// EndpointQuery selects and orders endpoints.
type EndpointQuery struct {
	Search  string // part of target, issuer, owner or a label's value
	Verdict string // "" for all
	Owner   string
	Label   string // KEY=VALUE
	Policy  string // that is assigned
	Sort    string // target, verdict, not_after or issuer
	Desc    bool
	After   string // cursor of the page before
	Limit   int
}

// sortKeys are the expressions that endpoints are ordered by. Each gives text
// that sorts as wanted, so that one form of cursor serves all, and has an index that says the same.
var sortKeys = map[string]string{
	"target": "target",
	"verdict": "CASE verdict WHEN 'faulty' THEN '1' WHEN 'at-risk' THEN '2' WHEN 'unreachable' THEN '3' WHEN " +
		"'sound' THEN '4' ELSE '5' END",
	"not_after": "coalesce(lpad((extract(epoch FROM not_after AT TIME ZONE 'UTC')::bigint + 100000000000)::text, " +
		"13, '0'), '~')",
	"issuer": "CASE WHEN issuer = '' THEN '~' ELSE lower(issuer) END",
}

// verdictRanks are the keys of the order by verdict.
var verdictRanks = map[string]string{"faulty": "1", "at-risk": "2", "unreachable": "3", "sound": "4"}

// labelled selects endpoints with a label, which label writes.
const labelled = "endpoints.settings -> 'labels' @> ?::jsonb"

func label(key, value string) string {
	text, _ := json.Marshal(map[string]string{key: value}) // strings always have a JSON form
	return string(text)
}

// belonging selects endpoints by owner, label (KEY=VALUE) and assigned policy; "" selects all.
func belonging(db *gorm.DB, owner, of, policy string) *gorm.DB {
	if owner != "" {
		db = db.Where("endpoints.owner = ?", owner)
	}
	if key, value, ok := strings.Cut(of, "="); ok {
		db = db.Where(labelled, label(key, value))
	}
	if policy != "" {
		db = db.Where("endpoints.policy = ?", policy)
	}
	return db
}

// searching selects endpoints with a text in target, issuer, owner or a label's value. The first condition has an
// index, and may find a little more.
func searching(db *gorm.DB, text string) *gorm.DB {
	like := "%" + escapeLike(text) + "%"
	return db.Where("search ILIKE ? AND ("+searched+")", like, like, like, like, like)
}

const searched = "target ILIKE ? OR issuer ILIKE ? OR owner ILIKE ? OR EXISTS (SELECT FROM " +
	"jsonb_each_text(coalesce(settings -> 'labels', '{}')) l WHERE l.value ILIKE ?)"

// Endpoints returns one page and the cursor of the next, "" at the end.
func (s *Store) Endpoints(ctx context.Context, q EndpointQuery) ([]Endpoint, string, error) {
	key, ok := sortKeys[q.Sort]
	if !ok {
		key = sortKeys["target"]
	}
	direction, than := "ASC", ">"
	if q.Desc {
		direction, than = "DESC", "<"
	}
	db := s.read(ctx).Model(&Endpoint{}).Select("*, " + key + " COLLATE \"C\" AS sort_key")
	if q.Verdict != "" {
		db = db.Where("verdict = ?", q.Verdict)
		if rank := verdictRanks[q.Verdict]; q.Sort == "verdict" && rank != "" { // else the index is read up to there
			db = db.Where(key+" COLLATE \"C\" = ?", rank)
		}
	}
	db = belonging(db, q.Owner, q.Label, q.Policy)
	if q.Search != "" {
		db = searching(db, q.Search)
	}
	if q.After != "" {
		value, id, err := readCursor(q.After)
		if err != nil {
			return nil, "", err
		}
		db = db.Where(fmt.Sprintf("(%s COLLATE \"C\", id) %s (?, ?)", key, than), value, id)
	}
	var rows []struct {
		Endpoint
		SortKey string
	}
	if err := db.Order(key + " COLLATE \"C\" " + direction + ", id " + direction).Limit(q.Limit + 1).
		Scan(&rows).Error; err != nil {
		return nil, "", err
	}
	next := ""
	if len(rows) > q.Limit {
		rows = rows[:q.Limit]
		last := rows[q.Limit-1]
		next = writeCursor(last.SortKey, last.ID)
	}
	out := make([]Endpoint, len(rows))
	for i, r := range rows {
		out[i] = r.Endpoint
	}
	return out, next, nil
}

// VerdictCounts counts the endpoints of each verdict, of all or of those with the label KEY=VALUE; "" are those not
// judged yet.
func (s *Store) VerdictCounts(ctx context.Context, of string) (map[string]int, error) {
	var rows []struct {
		Verdict string
		Count   int
	}
	err := belonging(s.read(ctx).Model(&Endpoint{}), "", of, "").
		Select("verdict, count(*) AS count").Group("verdict").Scan(&rows).Error
	counts := map[string]int{}
	for _, r := range rows {
		counts[r.Verdict] = r.Count
	}
	return counts, err
}

// AllEndpoints returns the whole estate, by target.
func (s *Store) AllEndpoints(ctx context.Context) ([]Endpoint, error) {
	var out []Endpoint
	return out, s.read(ctx).Order("target").Find(&out).Error
}

// Endpoint returns one endpoint; the error is ErrNotFound when it is not there.
func (s *Store) Endpoint(ctx context.Context, id int64) (Endpoint, error) {
	var e Endpoint
	return e, notFound(s.read(ctx).First(&e, id).Error)
}

// AddEndpoint adds one; the error is ErrExists when its target is there.
func (s *Store) AddEndpoint(ctx context.Context, e *Endpoint) error {
	err := s.write(ctx, func(db *gorm.DB) error { return db.Create(e).Error })
	if errors.Is(err, gorm.ErrDuplicatedKey) {
		return ErrExists
	}
	return err
}

// AddOwnEndpoint adds an endpoint of the service itself, and reports whether it did: only once, and not where its
// target is there.
func (s *Store) AddOwnEndpoint(ctx context.Context, e *Endpoint) (added bool, err error) {
	err = s.Tx(ctx, func(tx *Tx) error {
		first := tx.db.Exec("INSERT INTO own_endpoints VALUES (?, ?) ON CONFLICT DO NOTHING", e.Target, e.CreatedAt)
		if added = first.RowsAffected > 0; first.Error != nil || !added {
			return first.Error
		}
		var there int64
		err := tx.db.Model(&Endpoint{}).Where("target = ?", e.Target).Count(&there).Error
		if added = there == 0; err != nil || !added {
			return err
		}
		return tx.db.Create(e).Error
	})
	return added && err == nil, err
}

// settings are the columns that people write.
var settings = []string{"target", "settings", "updated_at"}

// ChangeEndpoint replaces what is set of the endpoint, where one of the tags is its, and keeps its judgement.
func (s *Store) ChangeEndpoint(ctx context.Context, e *Endpoint, tags string) error {
	return s.Tx(ctx, func(t *Tx) error {
		if _, err := expected[Endpoint](t, tags, "id = ?", e.ID); err != nil {
			return err
		}
		err := t.db.Model(e).Select(settings).Updates(e).Error
		if errors.Is(err, gorm.ErrDuplicatedKey) {
			return ErrExists
		}
		return err
	})
}

// RemoveEndpoint removes the endpoint with its history, where one of the tags is its.
func (s *Store) RemoveEndpoint(ctx context.Context, id int64, tags string) error {
	return s.Tx(ctx, func(t *Tx) error {
		if _, err := expected[Endpoint](t, tags, "id = ?", id); err != nil {
			return err
		}
		return t.db.Delete(&Endpoint{}, id).Error
	})
}

// TrustStores returns every named store.
func (s *Store) TrustStores(ctx context.Context) ([]TrustStore, error) {
	var out []TrustStore
	return out, s.read(ctx).Order("name").Find(&out).Error
}

// PutTrustStores adds stores and replaces those that are there.
func (t *Tx) PutTrustStores(stores []TrustStore) error {
	if len(stores) == 0 {
		return nil
	}
	slices.SortFunc(stores, func(a, b TrustStore) int { return strings.Compare(a.Name, b.Name) })
	return t.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&stores).Error
}

// Imported counts what an import did.
type Imported struct{ Added, Changed, Unchanged, Removed int }

// PutEndpoints adds endpoints and changes those that are there; with replace,
// those that are not among them are removed.
func (t *Tx) PutEndpoints(list []Endpoint, replace bool, now time.Time) (Imported, error) {
	var count Imported
	var present []Endpoint
	if err := t.db.Clauses(clause.Locking{Strength: "UPDATE"}).Order("id").Find(&present).Error; err != nil {
		return count, err
	}
	byTarget := map[string]Endpoint{}
	for _, e := range present {
		byTarget[e.Target] = e
	}
	var fresh []Endpoint
	for _, e := range list {
		old, there := byTarget[e.Target]
		delete(byTarget, e.Target)
		e.UpdatedAt = now
		switch {
		case !there:
			e.CreatedAt = now
			fresh = append(fresh, e)
			count.Added++
		case old.Settings.Equal(e.Settings):
			count.Unchanged++
		default:
			e.ID = old.ID
			if err := t.db.Model(&e).Select(settings).Updates(&e).Error; err != nil {
				return count, err
			}
			count.Changed++
		}
	}
	if len(fresh) > 0 {
		if err := t.db.CreateInBatches(&fresh, 500).Error; err != nil {
			return count, err
		}
	}
	if replace {
		for _, e := range values(byTarget) {
			if err := t.db.Delete(&Endpoint{}, e.ID).Error; err != nil {
				return count, err
			}
			count.Removed++
		}
	}
	return count, nil
}

// MissingEndpoint returns the first of the numbers that no endpoint has, 0 for none.
func (s *Store) MissingEndpoint(ctx context.Context, ids []int64) (int64, error) {
	var known []int64
	if len(ids) == 0 {
		return 0, nil
	}
	if err := s.read(ctx).Model(&Endpoint{}).Where("id IN ?", ids).Pluck("id", &known).Error; err != nil {
		return 0, err
	}
	there := map[int64]bool{}
	for _, id := range known {
		there[id] = true
	}
	for _, id := range ids {
		if !there[id] {
			return id, nil
		}
	}
	return 0, nil
}

// EndpointsHave reports whether all of the endpoints are there and have the label KEY=VALUE.
func (s *Store) EndpointsHave(ctx context.Context, of string, ids []int64) (bool, error) {
	var n int64
	err := belonging(s.read(ctx).Model(&Endpoint{}), "", of, "").Where("id IN ?", ids).Count(&n).Error
	slices.Sort(ids)
	return n == int64(len(slices.Compact(ids))), err
}

// AuditHas reports whether all endpoints of the audit have the label KEY=VALUE; it is so for none that is not there.
func (s *Store) AuditHas(ctx context.Context, of string, audit int64) (bool, error) {
	key, value, _ := strings.Cut(of, "=")
	var all, others bool
	err := s.read(ctx).Raw("SELECT EXISTS (SELECT FROM examinations WHERE audit_id = ?), EXISTS (SELECT FROM "+
		"examinations x JOIN endpoints ON endpoints.id = x.endpoint_id WHERE x.audit_id = ? AND ("+labelled+
		") IS NOT TRUE)", audit, audit, label(key, value)).Row().Scan(&all, &others)
	return all && !others, err
}
