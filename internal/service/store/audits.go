package store

import (
	"context"
	"fmt"
	"time"

	"gorm.io/gorm"

	"nurvik/core/plain"
)

// Selection is which endpoints an audit is about: all of them, or of those named and those with a label what is both.
type Selection struct {
	EndpointIDs          []int64
	LabelKey, LabelValue string
	// Of a schedule: those that name it, and of the others those that name none.
	Schedule string
}

// where is the condition on endpoints.
func (s Selection) where() (condition string, arguments []any) {
	condition = "true"
	if len(s.EndpointIDs) > 0 {
		condition += " AND id IN ?"
		arguments = append(arguments, s.EndpointIDs)
	}
	if s.LabelKey != "" {
		condition += " AND " + labelled
		arguments = append(arguments, label(s.LabelKey, s.LabelValue))
	}
	if s.Schedule != "" {
		condition = "(schedule = ? OR schedule IS NULL AND " + condition + ")"
		arguments = append([]any{s.Schedule}, arguments...)
	}
	return condition, arguments
}

// CreateAudit inserts the audit and an examination for each endpoint. It
// returns the number of endpoints.
func (t *Tx) CreateAudit(a *Audit, of Selection) (int, error) {
	// What schedules have begun may last for hours, and takes nobody's place.
	if err := t.room(&Audit{}, "state IN ? AND (schedule <> '') = ?", []State{Planning, Visiting, Judging},
		a.Schedule != ""); err != nil {
		return 0, err
	}
	a.Summary = &Summary{Verdicts: map[string]int{}}
	if err := t.db.Create(a).Error; err != nil {
		return 0, err
	}
	condition, arguments := of.where()
	result := t.db.Exec("INSERT INTO examinations (audit_id, endpoint_id) SELECT ?, id FROM endpoints WHERE "+condition,
		append([]any{a.ID}, arguments...)...)
	if result.Error != nil {
		return 0, result.Error
	}
	count := int(result.RowsAffected)
	return count, t.Count(a, func(s *Summary) { s.Endpoints = count })
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

// Summary is how far an audit is, and at its end what it came to.
type Summary struct {
	Endpoints int            `json:"endpoints"`
	Judged    int            `json:"judged"` // or told as not examined
	Visits    int            `json:"visits"`
	Done      int            `json:"done"`     // of endpoints that are judged
	Verdicts  map[string]int `json:"verdicts"` // endpoints, by verdict
}

// Add adds what was judged.
func (s *Summary) Add(more Summary) {
	s.Judged += more.Judged
	s.Done += more.Done
	for verdict, n := range more.Verdicts {
		if s.Verdicts == nil {
			s.Verdicts = map[string]int{}
		}
		s.Verdicts[verdict] += n
	}
}

// summary counts an audit. Its visits are forgotten when it has ended; their numbers are those that were kept.
const summary = `SELECT jsonb_build_object(
	'endpoints', (SELECT count(*) FROM examinations WHERE audit_id = a.id),
	'judged', (SELECT count(*) FROM examinations WHERE audit_id = a.id AND stage IN ('judged', 'closed')),
	'visits', coalesce((a.summary ->> 'visits')::int, (SELECT count(*) FROM visits WHERE audit_id = a.id)),
	'done', coalesce((a.summary ->> 'done')::int,
		(SELECT count(*) FROM visits WHERE audit_id = a.id AND visits.state <> 'waiting')),
	'verdicts', (SELECT coalesce(jsonb_object_agg(verdict, n), '{}') FROM (SELECT verdict, count(*) AS n
		FROM examinations WHERE audit_id = a.id AND verdict <> '' GROUP BY verdict) v)) AS summary
	FROM audits a WHERE id = ?`

// Summary returns how far the audit is.
func (s *Store) Summary(ctx context.Context, a Audit) (Summary, error) {
	if a.Summary != nil {
		return *a.Summary, nil
	}
	var row Audit
	err := s.read(ctx).Raw(summary, a.ID).Scan(&row).Error
	if err != nil || row.Summary == nil { // it was removed in between
		return Summary{}, err
	}
	return *row.Summary, nil
}

// Summarise counts anew what the audit came to, keeps it, and tells those who follow it.
func (t *Tx) Summarise(audit int64) error {
	if err := t.db.Exec("UPDATE audits SET summary = ("+summary+") WHERE id = ?", audit, audit).Error; err != nil {
		return err
	}
	return t.tell(audit)
}

// Move changes the audit's state if it is still in one of the given ones, and
// reports whether it was.
func (t *Tx) Move(audit int64, to State, now time.Time, from ...State) (bool, error) {
	changes := map[string]any{"state": to}
	if to.Final() {
		changes["finished_at"] = now
	}
	result := t.db.Model(&Audit{}).Where("id = ? AND state IN ?", audit, from).Updates(changes)
	if result.Error != nil || result.RowsAffected == 0 {
		return false, result.Error
	}
	if to.Final() {
		return true, t.Summarise(audit)
	}
	return true, t.tell(audit)
}

// Fail ends the audit with a reason, and reports whether it had not ended.
func (t *Tx) Fail(audit int64, reason string, now time.Time) (bool, error) {
	failed, err := t.Move(audit, Failed, now, Planning, Visiting, Judging)
	if err != nil || !failed {
		return false, err
	}
	return true, t.db.Model(&Audit{ID: audit}).Update("failure", plain.Text(reason)).Error
}

// CancelVisits marks every waiting visit of the audit.
func (t *Tx) CancelVisits(audit int64) error {
	return t.db.Model(&Visit{}).Where("audit_id = ? AND state = ?", audit, VisitWaiting).Update("state",
		VisitCancelled).Error
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

// Unexamined is an endpoint that was not examined in an audit.
type Unexamined struct{ Target, Unexamined string }

// Unexamined returns the endpoints that were not examined in the audit, by target, at most so many.
func (s *Store) Unexamined(ctx context.Context, audit int64, most int) ([]Unexamined, error) {
	var out []Unexamined
	return out, s.read(ctx).Model(&Examination{}).Select("target, unexamined").
		Joins("JOIN endpoints ON endpoints.id = endpoint_id").
		Where("examinations.audit_id = ? AND unexamined <> ''", audit).Order("target").Limit(most).Scan(&out).Error
}
