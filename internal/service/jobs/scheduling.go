package jobs

import (
	"context"
	"fmt"
	"math/rand/v2"
	"time"

	"nurvik/internal/service/schedule"
	"nurvik/internal/service/store"
)

// startDue begins the audits that are due. Each schedule is taken by one process, in the transaction that says when the
// next one is due: an audit begins once.
func (q *Queue) startDue(ctx context.Context) error {
	var full []int64 // of which none can begin now
	for {
		var taken *store.Schedule
		err := q.store.Tx(ctx, func(tx *store.Tx) (err error) {
			now := q.options.Now()
			if taken, err = tx.Due(now, full); err != nil || taken == nil {
				return err
			}
			return q.begin(ctx, tx, taken, now)
		})
		switch {
		case taken == nil || err != nil && ctx.Err() != nil:
			return err
		case err != nil: // the next round tries it again, and the others are not kept waiting
			q.options.Log.Warn("an audit that is due cannot begin yet", "schedule", taken.Name, "error", err)
			full = append(full, taken.ID)
		}
	}
}

// begin inserts the audit of a schedule that is due, or says why there is none, and sets when the next one is due.
func (q *Queue) begin(ctx context.Context, tx *store.Tx, row *store.Schedule, now time.Time) error {
	s, defects := schedule.New(row.Settings)
	if len(defects) > 0 { // it was checked when it was written; a later version may be stricter
		row.NextAt, row.Skipped = nil, "its settings are not valid any more: "+defects[0].Words
		return tx.Took(row)
	}
	if allowed := s.Allowed(now); allowed.After(now) { // it was missed, and now it is quiet
		row.NextAt = &allowed
		return tx.Took(row)
	}
	next, due := s.Next(*row.NextAt, now), *row.NextAt
	for !next.After(now) && !next.IsZero() { // times of the day that were missed are not made up for
		next = s.Next(next, now)
	}
	row.NextAt, row.LastAt, row.Skipped = &next, &due, ""
	if next.IsZero() {
		row.NextAt = nil
	}
	if row.AuditID != nil {
		before, err := q.store.Audit(ctx, *row.AuditID)
		if err != nil {
			return err
		}
		if !before.State.Final() {
			row.Skipped = fmt.Sprintf("audit %d, the one before, was still under way", before.ID)
			return tx.Took(row)
		}
	}
	a := &store.Audit{State: store.Planning, CreatedAt: now, Schedule: row.Name, ScheduleSettings: &row.Settings}
	count, err := tx.CreateAudit(a, row.Selection())
	if err != nil {
		return err
	}
	if count == 0 {
		row.Skipped = "no endpoint has the label " + row.Settings.Label + " or names this schedule"
		if row.Settings.Label == "" {
			row.Skipped = "no endpoint is left for it: the estate is empty, or all name other schedules"
		}
		if err := tx.ForgetAudit(a.ID); err != nil {
			return err
		}
		return tx.Took(row)
	}
	row.AuditID = &a.ID
	if err := tx.Took(row); err != nil {
		return err
	}
	q.options.Log.Info("audit started", "audit", a.ID, "schedule", row.Name)
	return q.put(ctx, tx, planArgs{AuditID: a.ID, Scheduled: true})
}

// holdBack corrects schedules whose next time lies further ahead than it can: a clock was put back.
func (q *Queue) holdBack(ctx context.Context) error {
	all, err := q.store.Schedules(ctx)
	if err != nil {
		return err
	}
	now := q.options.Now()
	for _, row := range all {
		s, defects := schedule.New(row.Settings)
		if len(defects) > 0 || row.NextAt == nil {
			continue
		}
		next := s.Next(now, now)
		if next.IsZero() || !row.NextAt.After(next) {
			continue
		}
		changed, err := q.store.HoldBack(ctx, row.ID, next)
		if err != nil {
			return err
		}
		if changed {
			q.options.Log.Warn("put in order", "what", "a schedule in the future", "schedule", row.Name)
		}
	}
	return nil
}

// pace is how visits of a schedule's audit are spread.
type pace struct {
	begin  time.Time
	spread time.Duration
}

// paceOf is that of an audit; one that a person began goes as fast as it can.
func (q *Queue) paceOf(a store.Audit) pace {
	p := pace{begin: a.CreatedAt}
	if a.ScheduleSettings != nil {
		if s, defects := schedule.New(*a.ScheduleSettings); len(defects) == 0 {
			p.spread = s.Spread(p.begin)
		}
	}
	return p
}

// at is when the visits of an endpoint begin, the one of that place among so many: somewhere in its part of the time.
// It is zero where they begin at once.
func (p pace) at(place, endpoints int) time.Time {
	part := p.spread / time.Duration(max(endpoints, 1))
	if part <= 0 {
		return time.Time{}
	}
	return p.begin.Add(time.Duration(place)*part + rand.N(part))
}

// quietFor is how long the visits of an audit are put off because of its schedule's quiet hours: a minute at most, for
// the time may change meanwhile.
func quietFor(a store.Audit, now time.Time) time.Duration {
	if a.ScheduleSettings == nil {
		return 0
	}
	s, defects := schedule.New(*a.ScheduleSettings)
	if len(defects) > 0 || !s.Quiet(now) {
		return 0
	}
	return min(s.QuietEnd(now).Sub(now), time.Minute)
}
