package store

import (
	"context"
	"encoding/json"
	"time"

	"gorm.io/gorm/clause"

	"nurvik/core/facts"
	"nurvik/core/plain"
)

// Stage is how far an endpoint is in an audit.
type Stage string

// The stages, in their order.
const (
	Unplanned Stage = "new"     // its addresses are not looked up yet
	Planned   Stage = "planned" // some of its visits have not ended
	Visited   Stage = "visited" // it can be judged
	Judged    Stage = "judged"  // until the audit ends, provisionally
	Closed    Stage = "closed"  // its findings live on
)

// Examined is an endpoint in an audit.
type Examined struct {
	Endpoint Endpoint
	Examination
}

// Portion returns at most so many endpoints that are at the stage, by their numbers.
func (s *Store) Portion(ctx context.Context, audit int64, stage Stage, limit int) ([]Examined, error) {
	var rows []Examination
	err := s.read(ctx).Where("audit_id = ? AND stage = ?", audit, stage).Order("endpoint_id").Limit(limit).
		Find(&rows).Error
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	var endpoints []Endpoint
	if err := s.read(ctx).Where("id IN ?", numbers(rows)).Find(&endpoints).Error; err != nil {
		return nil, err
	}
	byID := map[int64]Endpoint{}
	for _, e := range endpoints {
		byID[e.ID] = e
	}
	var out []Examined
	for _, r := range rows {
		if e, there := byID[r.EndpointID]; there { // it was not removed in between
			out = append(out, Examined{e, r})
		}
	}
	return out, nil
}

func numbers(rows []Examination) []int64 {
	out := make([]int64, len(rows))
	for i, r := range rows {
		out[i] = r.EndpointID
	}
	return out
}

// Stages counts the endpoints of an audit, and those of them that are at the stage.
func (s *Store) Stages(ctx context.Context, audit int64, stage Stage) (all, at int, err error) {
	var row struct{ All, At int }
	err = s.read(ctx).Model(&Examination{}).Where("audit_id = ?", audit).
		Select(`count(*) AS "all", count(*) FILTER (WHERE stage = ?) AS at`, stage).Scan(&row).Error
	return row.All, row.At, err
}

// HoldAudit keeps the audit as it is until the transaction ends. It is nil where the audit is in none of the states.
func (t *Tx) HoldAudit(audit int64, states ...State) (*Audit, error) {
	var held []Audit
	err := t.db.Clauses(clause.Locking{Strength: "UPDATE"}).Where("id = ? AND state IN ?", audit, states).
		Find(&held).Error
	if err != nil || len(held) == 0 {
		return nil, err
	}
	return &held[0], nil
}

// Count keeps how far an audit is that is held, and tells those who follow it. One from before this was kept has no
// counts, and is counted by whoever asks.
func (t *Tx) Count(a *Audit, change func(*Summary)) error {
	if a.Summary != nil {
		change(a.Summary)
		if err := t.db.Model(a).Select("summary").Updates(a).Error; err != nil {
			return err
		}
	}
	return t.tell(a.ID)
}

// PlanVisits inserts the visits that are not there yet and stores what was
// found out about names and addresses. It returns the visits with their identifiers.
func (t *Tx) PlanVisits(audit int64, planned map[int64]facts.Endpoint, visits []Visit) ([]Visit, error) {
	stages := map[int64]Stage{}
	for _, v := range visits {
		stages[v.EndpointID] = Planned
	}
	type row struct {
		ID    int64          `json:"id"`
		Stage Stage          `json:"stage"`
		Facts facts.Endpoint `json:"facts"`
	}
	rows := []row{} // none is an array too
	for id, f := range planned {
		r := row{id, Visited, f}
		if stages[id] != "" {
			r.Stage = stages[id]
		}
		rows = append(rows, r)
	}
	text, err := json.Marshal(rows)
	if err != nil {
		return nil, err
	}
	err = t.db.Exec(`UPDATE examinations x SET facts = p.facts, stage = p.stage
		FROM jsonb_to_recordset(?::jsonb) AS p (id bigint, stage text, facts jsonb)
		WHERE x.audit_id = ? AND x.endpoint_id = p.id`, string(text), audit).Error
	if err != nil || len(visits) == 0 {
		return nil, err
	}
	err = t.db.Clauses(clause.OnConflict{DoNothing: true}).CreateInBatches(&visits, 500).Error
	return visits, err
}

// VisitEnded notes that all visits of the endpoint have ended, and reports whether a job is to be put that judges: it
// is for nobody else to put it.
func (t *Tx) VisitEnded(audit, endpoint int64) (bool, error) {
	done := t.db.Exec(`UPDATE examinations x SET stage = 'visited'
		WHERE audit_id = ? AND endpoint_id = ? AND stage = 'planned' AND NOT EXISTS (SELECT FROM visits v
			WHERE v.audit_id = x.audit_id AND v.endpoint_id = x.endpoint_id AND v.state = 'waiting')`, audit, endpoint)
	if done.Error != nil || done.RowsAffected == 0 {
		return false, done.Error
	}
	return t.QueueJudge(audit)
}

// QueueJudge reports whether a job is to be put that judges: there is none, and it is for nobody else to put it.
func (t *Tx) QueueJudge(audit int64) (bool, error) {
	done := t.db.Exec("UPDATE audits SET judge_queued = true WHERE id = ? AND NOT judge_queued AND state IN ?", audit,
		[]State{Planning, Visiting})
	return done.RowsAffected > 0, done.Error
}

// DoneJudging notes that no job judges any more, and reports whether that is so: not while something can be judged.
// Nothing is lost in between: who makes something that can be judged waits for this to end, and puts a job.
func (t *Tx) DoneJudging(audit int64) (bool, error) {
	held, err := t.HoldAudit(audit, Planning, Visiting)
	if err != nil || held == nil {
		return true, err
	}
	open, err := t.anyAt(audit, Visited)
	if err != nil || open {
		return false, err
	}
	return true, t.db.Model(&Audit{ID: audit}).Update("judge_queued", false).Error
}

// JudgedAll reports whether nothing of the audit is to be visited or judged any more.
func (t *Tx) JudgedAll(audit int64) (bool, error) {
	open, err := t.anyAt(audit, Unplanned, Planned, Visited)
	return !open, err
}

func (t *Tx) anyAt(audit int64, stages ...Stage) (bool, error) {
	var any bool
	err := t.db.Raw("SELECT EXISTS (SELECT FROM examinations WHERE audit_id = ? AND stage IN ?)", audit, stages).
		Scan(&any).Error
	return any, err
}

// VisitsOf returns the visits of endpoints in an audit, by endpoint.
func (s *Store) VisitsOf(ctx context.Context, audit int64, examined []Examined) (map[int64][]Visit, error) {
	ids := make([]int64, len(examined))
	for i, x := range examined {
		ids[i] = x.Endpoint.ID
	}
	var rows []Visit
	err := s.read(ctx).Where("audit_id = ? AND endpoint_id IN ?", audit, ids).Order("id").Find(&rows).Error
	out := map[int64][]Visit{}
	for _, v := range rows {
		out[v.EndpointID] = append(out[v.EndpointID], v)
	}
	return out, err
}

// Standing are audits that somebody has to move on: of which endpoints can be judged, and no job does it, and those of
// which everything is judged.
func (s *Store) Standing(ctx context.Context) (toJudge, toEnd []int64, err error) {
	at := "EXISTS (SELECT FROM examinations x WHERE x.audit_id = audits.id AND x.stage IN ?)"
	err = s.read(ctx).Model(&Audit{}).Where("state IN ? AND NOT judge_queued AND "+at, []State{Planning, Visiting},
		[]Stage{Visited}).Order("id").Pluck("id", &toJudge).Error
	if err != nil {
		return nil, nil, err
	}
	return toJudge, toEnd, s.read(ctx).Model(&Audit{}).Where("state = ? AND NOT "+at, Visiting,
		[]Stage{Unplanned, Planned, Visited}).Order("id").Pluck("id", &toEnd).Error
}

// NotExamined notes why an endpoint, or one of its addresses, was not examined in the audit. Where nothing of it was,
// its last verdict stays.
func (t *Tx) NotExamined(audit, endpoint int64, reason string, whole bool) error {
	x := Examination{AuditID: audit, EndpointID: endpoint, Unexamined: plain.Text(reason), Stage: Judged}
	columns := []string{"unexamined"}
	if whole {
		columns = append(columns, "stage")
	}
	return t.db.Model(&x).Select(columns).Updates(&x).Error
}

// CloseUnexamined ends what was not examined, of which nothing is to live on.
func (s *Store) CloseUnexamined(ctx context.Context, audit int64) error {
	return s.Tx(ctx, func(t *Tx) error {
		return t.db.Model(&Examination{}).Where("audit_id = ? AND stage = ? AND verdict = ''", audit, Judged).
			Update("stage", Closed).Error
	})
}

// MetAuthorities returns the certificates of CAs that were seen for the first time since then, as DER.
func (s *Store) MetAuthorities(ctx context.Context, since time.Time) ([][]byte, error) {
	var out [][]byte
	return out, s.read(ctx).Model(&Certificate{}).Where("authority AND first_seen >= ?", since).Order("sha256").
		Pluck("der", &out).Error
}

// WaitingElsewhere returns endpoints with a present finding of one of the codes that other audits have judged, by their
// numbers from after the given one on, with their latest examinations; at most so many.
func (s *Store) WaitingElsewhere(ctx context.Context, audit int64, codes []string, after int64, limit int) ([]Examined,
	error) {
	var endpoints []Endpoint
	err := s.read(ctx).Where(`id > ? AND audit_id <> ? AND NOT provisional AND EXISTS (SELECT FROM findings
		WHERE endpoint_id = endpoints.id AND code IN ? AND findings.state <> 'gone')`, after, audit, codes).
		Order("id").Limit(limit).Find(&endpoints).Error
	if err != nil {
		return nil, err
	}
	var out []Examined
	for _, e := range endpoints {
		x, err := s.LatestExamination(ctx, e)
		if err != nil {
			return nil, err
		}
		if x == nil {
			x = &Examination{EndpointID: e.ID}
		}
		out = append(out, Examined{e, *x})
	}
	return out, nil
}
