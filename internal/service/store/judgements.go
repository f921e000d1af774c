package store

import (
	"context"
	"errors"
	"slices"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/life"
)

// SaveProvisional stores facts and judgement of one endpoint while its audit is under way, and what was seen at its
// addresses. Its findings live on when the audit ends. Where not everything was visited, the verdict becomes one that
// also what was known before bears out.
func (t *Tx) SaveProvisional(audit, endpoint int64, f facts.Endpoint, j *judge.Judgement, at time.Time) error {
	newest, _, err := t.saveVerdict(audit, endpoint, f, j, at, Judged)
	if err != nil || !newest {
		return err
	}
	places, err := t.addressPlaces(endpoint, f)
	if err != nil {
		return err
	}
	return t.sightAddresses(places, f, at)
}

// SaveJudgement stores the judgement at the end of the audit, and lets the endpoint's findings live on. They were seen
// at that time, which is earlier than the judgement where it was judged again.
func (t *Tx) SaveJudgement(audit, endpoint int64, f facts.Endpoint, j judge.Judgement, at, sawAt time.Time) error {
	newest, stand, err := t.saveVerdict(audit, endpoint, f, &j, at, Closed)
	if err != nil || !newest {
		return err
	}
	places, err := t.addressPlaces(endpoint, f)
	if err != nil {
		return err
	}
	present := make([]sighted, 0, len(j.Findings))
	for _, found := range j.Findings {
		s := sighted{Finding: rowOf(j.Target, found)}
		s.EndpointID, s.AuditID = &endpoint, &audit
		for _, address := range found.Addresses {
			if id, ok := places[address]; ok {
				s.places = append(s.places, id)
			}
		}
		present = append(present, s)
	}
	// An endpoint that cannot be reached says nothing about its certificates, so their findings stay as they are.
	return t.live("endpoint_id", endpoint, present, sawAt, func(f Finding) bool {
		if slices.ContainsFunc(stand, func(s Finding) bool { return s.ID == f.ID }) {
			return false
		}
		reachability := f.Severity == string(judge.None) || f.Code == "dns.unresolved"
		return j.Verdict != judge.Unreachable || reachability
	})
}

// saveVerdict stores an examination, and what lists show of the endpoint. Where another audit observed the endpoint
// later, the judgement is only this audit's: it reports whether it is the endpoint's newest, and which findings stand
// because not everything was visited.
func (t *Tx) saveVerdict(audit, endpoint int64, f facts.Endpoint, j *judge.Judgement, at time.Time,
	stage Stage) (newest bool, stand []Finding, err error) {
	before := Endpoint{ID: endpoint} // it may have been removed meanwhile
	if err := t.db.Select("id", "verdict").Limit(1).Find(&before).Error; err != nil {
		return false, nil, err
	}
	asWaived := func(j judge.Judgement) judge.Judgement { return j }
	stand, tally, err := t.partly(before, &f, j, asWaived)
	if err != nil {
		return false, nil, err
	}
	row := Examination{AuditID: audit, EndpointID: endpoint, Facts: &f, Verdict: string(j.Verdict), Judgement: j,
		Stage: stage}
	if err := t.db.Model(&row).Select("facts", "verdict", "judgement", "stage").Updates(&row).Error; err != nil {
		return false, nil, err
	}
	observed, err := t.observedAt(audit, f)
	if err != nil {
		return false, nil, err
	}
	e := Endpoint{ID: endpoint, AuditID: &audit, ObservedAt: &observed, NotAfter: j.NotAfter, Issuer: j.Issuer,
		JudgedBy: j.Basis.Policy, Provisional: stage != Closed,
		Latest: latestOf(j.Verdict, tally, at)}
	columns := append([]string{"audit_id", "observed_at", "judged_by", "provisional"}, latest...)
	if j.Verdict != judge.Unreachable { // what was served last stays known
		columns = append(columns, "not_after", "issuer")
	}
	// A time in the future is from before a clock was put back, and says nothing.
	done := t.db.Model(&e).Where("observed_at IS NULL OR observed_at <= ? OR observed_at > now() + interval '1 minute'",
		observed).Select(columns).UpdateColumns(&e)
	return done.RowsAffected > 0, stand, done.Error
}

// observedAt is when the endpoint was visited last. Where nothing was visited, its name was looked up when the audit
// began.
func (t *Tx) observedAt(audit int64, f facts.Endpoint) (time.Time, error) {
	var out time.Time
	for _, o := range f.Observations {
		if o.At.After(out) {
			out = o.At
		}
	}
	if !out.IsZero() {
		return out, nil
	}
	return out, t.db.Model(&Audit{ID: audit}).Select("created_at").Scan(&out).Error
}

// sighted is a finding with the places at which it was met.
type sighted struct {
	Finding
	places []int64
}

// rowOf is the record of a finding, without its life.
func rowOf(target string, f judge.Finding) Finding {
	cause := judge.CauseOf(f)
	return Finding{ID: judge.Identity(target, f), Code: f.Code, Severity: string(f.Severity), Finding: f,
		Waived: !f.Counts(), Cause: cause.ID, CauseAbout: cause.About}
}

// live lets the findings of one owner live on: those that are present are
// stored, and of the others those are gone of which spoken says that something
// was said about them.
func (t *Tx) live(owner string, id int64, present []sighted, at time.Time, spoken func(Finding) bool) error {
	var known []Finding
	if err := t.db.Where(owner+" = ?", id).Find(&known).Error; err != nil {
		return err
	}
	before := map[string]Finding{}
	for _, f := range known {
		before[f.ID] = f
	}
	rows, joins := make([]Finding, 0, len(present)), []findingPlace{}
	for _, s := range present {
		row := s.Finding
		old := before[row.ID]
		row.lives(old.life().Seen(at))
		if row.State != life.Back { // what comes back is looked at anew
			row.Acknowledged = old.Acknowledged
		}
		delete(before, row.ID)
		rows = append(rows, row)
		for _, place := range s.places {
			joins = append(joins, findingPlace{row.ID, place})
		}
	}
	if len(rows) > 0 {
		if err := t.db.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(&rows, 500).Error; err != nil {
			return err
		}
	}
	for _, f := range before {
		now := f.life().Unseen(at, spoken(f))
		if now.State == f.State {
			continue
		}
		f.lives(now)
		if err := t.db.Model(&f).Select("state", "gone_at").Updates(&f).Error; err != nil {
			return err
		}
	}
	return t.placeFindings(rows, joins)
}

type findingPlace struct {
	FindingID string
	PlaceID   int64
}

// placeFindings keeps the places of findings that were seen.
func (t *Tx) placeFindings(rows []Finding, joins []findingPlace) error {
	ids := make([]string, len(rows))
	for i, r := range rows {
		ids[i] = r.ID
	}
	if len(ids) > 0 {
		if err := t.db.Where("finding_id IN ?", ids).Delete(&findingPlace{}).Error; err != nil {
			return err
		}
	}
	if len(joins) == 0 {
		return nil
	}
	return t.db.Clauses(clause.OnConflict{DoNothing: true}).CreateInBatches(&joins, 1000).Error
}

// LatestExamination returns the judgement that the endpoint's list entry shows.
func (s *Store) LatestExamination(ctx context.Context, e Endpoint) (*Examination, error) {
	if e.AuditID == nil {
		return nil, nil
	}
	var x Examination
	err := s.read(ctx).Where("audit_id = ? AND endpoint_id = ?", *e.AuditID, e.ID).First(&x).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, nil
	}
	return &x, err
}

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
	Search     string
	After      string
	Limit      int
}

// FindingRow is a finding with its endpoint's target, or its holding's name.
type FindingRow struct {
	Finding
	Target  string
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
	db := s.read(ctx).Table("findings AS f").
		Select("f.*, coalesce(target, '') AS target, coalesce(name, '') AS holding").Joins(ofEndpointsAndHoldings)
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
	if err := db.Order("sort_key").Limit(q.Limit + 1).Scan(&rows).Error; err != nil {
		return nil, "", err
	}
	if len(rows) > q.Limit {
		rows = rows[:q.Limit]
		return rows, writeCursor(rows[q.Limit-1].SortKey, 0), nil
	}
	return rows, "", nil
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
