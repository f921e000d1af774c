package store

import (
	"context"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"nurvik/core/facts"
	"nurvik/core/plain"
)

// Selection is which endpoints an audit is about: all of them, those named, or those with a label.
type Selection struct {
	EndpointIDs          []int64
	LabelKey, LabelValue string
}

// CreateAudit inserts the audit and an examination for each endpoint. It
// returns the number of endpoints.
func (t *Tx) CreateAudit(a *Audit, of Selection) (int, error) {
	// What schedules have begun may last for hours, and takes nobody's place.
	if err := t.room(&Audit{}, "state IN ? AND (schedule <> '') = ?", []State{Planning, Visiting, Judging},
		a.Schedule != ""); err != nil {
		return 0, err
	}
	if err := t.db.Create(a).Error; err != nil {
		return 0, err
	}
	insert := "INSERT INTO examinations (audit_id, endpoint_id) SELECT ?, id FROM endpoints"
	arguments := []any{a.ID}
	switch {
	case len(of.EndpointIDs) > 0:
		insert += " WHERE id IN ?"
		arguments = append(arguments, of.EndpointIDs)
	case of.LabelKey != "":
		insert += " WHERE " + labelled
		arguments = append(arguments, of.LabelKey, of.LabelValue)
	}
	result := t.db.Exec(insert, arguments...)
	return int(result.RowsAffected), result.Error
}

// ForgetAudit removes an audit that never began.
func (t *Tx) ForgetAudit(id int64) error { return t.db.Delete(&Audit{ID: id}).Error }

// maxRunning is how many audits, and how many what-ifs, may be under way: what
// they wait for is the same few workers.
const maxRunning = 20

// room refuses one more where enough are under way: the error is ErrTooMany.
func (t *Tx) room(model any, condition string, arguments ...any) error {
	if err := t.Sole(fmt.Sprintf("%T", model)); err != nil {
		return err
	}
	var running int64
	err := t.db.Model(model).Where(condition, arguments...).Count(&running).Error
	if err == nil && running >= maxRunning {
		return ErrTooMany
	}
	return err
}

// Audit returns one audit.
func (s *Store) Audit(ctx context.Context, id int64) (Audit, error) {
	var a Audit
	return a, notFound(s.read(ctx).First(&a, id).Error)
}

// Audits returns one page, the newest first, and the cursor of the next.
func (s *Store) Audits(ctx context.Context, after string, limit int) ([]Audit, string, error) {
	return newest(s.read(ctx), after, limit, func(a Audit) int64 { return a.ID })
}

// Progress counts the visits of an audit.
type Progress struct {
	Endpoints int
	Visits    int
	Done      int // visited, or given up
}

// Progress returns how far the audit is.
func (s *Store) Progress(ctx context.Context, audit int64) (Progress, error) {
	var p Progress
	err := s.read(ctx).Raw(`SELECT (SELECT count(*) FROM examinations WHERE audit_id = @a) AS endpoints,
		count(*) AS visits, count(*) FILTER (WHERE state <> 'waiting') AS done FROM visits WHERE audit_id = @a`,
		map[string]any{"a": audit}).Scan(&p).Error
	return p, err
}

// Verdicts counts the endpoints of an audit by verdict.
func (s *Store) Verdicts(ctx context.Context, audit int64) (map[string]int, error) {
	var rows []struct {
		Verdict string
		Count   int
	}
	err := s.read(ctx).Model(&Examination{}).Where("audit_id = ? AND verdict <> ''", audit).
		Select("verdict, count(*) AS count").Group("verdict").Scan(&rows).Error
	counts := map[string]int{}
	for _, r := range rows {
		counts[r.Verdict] = r.Count
	}
	return counts, err
}

// Move changes the audit's state if it is still in one of the given ones, and
// reports whether it was.
func (t *Tx) Move(audit int64, to State, now time.Time, from ...State) (bool, error) {
	changes := map[string]any{"state": to}
	if to.Final() {
		changes["finished_at"] = now
	}
	result := t.db.Model(&Audit{}).Where("id = ? AND state IN ?", audit, from).Updates(changes)
	return result.RowsAffected > 0, result.Error
}

// Fail ends the audit with a reason, unless it has ended.
func (s *Store) Fail(ctx context.Context, audit int64, reason string, now time.Time) error {
	return s.write(ctx, func(db *gorm.DB) error {
		return db.Model(&Audit{}).Where("id = ? AND state IN ?", audit, []State{Planning, Visiting, Judging}).
			Updates(map[string]any{"state": Failed, "failure": plain.Text(reason), "finished_at": now}).Error
	})
}

// CancelVisits marks every waiting visit of the audit.
func (t *Tx) CancelVisits(audit int64) error {
	return t.db.Model(&Visit{}).Where("audit_id = ? AND state = ?", audit, VisitWaiting).Update("state",
		VisitCancelled).Error
}

// Examined is an endpoint of an audit with what is set of it.
type Examined struct {
	Endpoint Endpoint
	Facts    *facts.Endpoint
}

// Examined returns every endpoint of the audit.
func (s *Store) Examined(ctx context.Context, audit int64) ([]Examined, error) {
	var rows []Examination
	if err := s.read(ctx).Where("audit_id = ?", audit).Order("endpoint_id").Find(&rows).Error; err != nil {
		return nil, err
	}
	var endpoints []Endpoint
	err := s.read(ctx).Where("id IN (SELECT endpoint_id FROM examinations WHERE audit_id = ?)",
		audit).Order("id").Find(&endpoints).Error
	if err != nil {
		return nil, err
	}
	byID := map[int64]Endpoint{}
	for _, e := range endpoints {
		byID[e.ID] = e
	}
	out := make([]Examined, len(rows))
	for i, r := range rows {
		out[i] = Examined{byID[r.EndpointID], r.Facts}
	}
	return out, nil
}

// PlanVisits inserts the visits that are not there yet and stores what was
// found out about names and addresses. It returns the visits with their identifiers.
func (t *Tx) PlanVisits(audit int64, planned map[int64]facts.Endpoint, visits []Visit) ([]Visit, error) {
	for id, f := range planned {
		if err := t.db.Model(&Examination{AuditID: audit,
			EndpointID: id}).Select("facts").Updates(&Examination{Facts: &f}).Error; err != nil {
			return nil, err
		}
	}
	if len(visits) == 0 {
		return nil, nil
	}
	err := t.db.Clauses(clause.OnConflict{DoNothing: true}).CreateInBatches(&visits, 500).Error
	return visits, err
}

// Visit returns one visit and its audit.
func (s *Store) Visit(ctx context.Context, id int64) (Visit, Audit, error) {
	var v Visit
	if err := notFound(s.read(ctx).First(&v, id).Error); err != nil {
		return v, Audit{}, err
	}
	a, err := s.Audit(ctx, v.AuditID)
	return v, a, err
}

// FinishVisit stores the result if the visit is still waiting for one, so that
// a job that runs twice changes nothing the second time.
func (s *Store) FinishVisit(ctx context.Context, v Visit) error {
	v.Failure = plain.Text(v.Failure)
	return s.write(ctx, func(db *gorm.DB) error {
		return db.Model(&v).Where("state = ?", VisitWaiting).Select("state", "observation", "failure").Updates(&v).Error
	})
}

// Waiting reports whether the audit has visits without a result.
func (s *Store) Waiting(ctx context.Context, audit int64) (bool, error) {
	var waiting bool
	err := s.read(ctx).Raw("SELECT EXISTS (SELECT FROM visits WHERE audit_id = ? AND state = ?)", audit,
		VisitWaiting).Scan(&waiting).Error
	return waiting, err
}

// Observations calls each for every visit of the audit that has a result.
func (s *Store) Observations(ctx context.Context, audit int64, each func(Visit)) error {
	var batch []Visit
	return s.read(ctx).Where("audit_id = ? AND state = ?", audit, VisitDone).
		FindInBatches(&batch, 500, func(*gorm.DB, int) error {
			for _, v := range batch {
				each(v)
			}
			return nil
		}).Error
}

// Visited returns the audits that wait for no visit and are not being judged yet.
func (s *Store) Visited(ctx context.Context) ([]int64, error) {
	var out []int64
	return out, s.read(ctx).Model(&Audit{}).Where(
		"state = ? AND NOT EXISTS (SELECT FROM visits WHERE audit_id = audits.id "+
			"AND visits.state = ?)", Visiting, VisitWaiting).Order("id").Pluck("id", &out).Error
}

// Unvisited returns the visits of the audit that failed here, by endpoint.
func (s *Store) Unvisited(ctx context.Context, audit int64) (map[int64][]Visit, error) {
	var rows []Visit
	if err := s.read(ctx).Where("audit_id = ? AND state = ?", audit,
		VisitFailed).Order("id").Find(&rows).Error; err != nil {
		return nil, err
	}
	out := map[int64][]Visit{}
	for _, v := range rows {
		out[v.EndpointID] = append(out[v.EndpointID], v)
	}
	return out, nil
}

// NotExamined notes why an endpoint was not examined in the audit. Its last verdict stays.
func (t *Tx) NotExamined(audit, endpoint int64, reason string) error {
	return t.db.Model(&Examination{AuditID: audit, EndpointID: endpoint}).Update("unexamined", plain.Text(reason)).Error
}

// Unexamined is an endpoint that was not examined in an audit.
type Unexamined struct{ Target, Unexamined string }

// Unexamined returns the endpoints that were not examined in the audit, by target, at most so many.
func (s *Store) Unexamined(ctx context.Context, audit int64, most int) ([]Unexamined, error) {
	var out []Unexamined
	return out, s.read(ctx).Model(&Examination{}).Select("target, unexamined").
		Joins("JOIN endpoints ON endpoints.id = endpoint_id").
		Where("examinations.audit_id = ? AND unexamined <> ''", audit).Order("target").Limit(most).Scan(&out).Error
}
