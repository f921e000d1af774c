package jobs

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"time"

	"github.com/riverqueue/river"

	"nurvik/core/facts"
	"nurvik/core/probe"
	"nurvik/internal/service/store"
)

// visitArgs is the job that visits one address.
type visitArgs struct {
	AuditID int64 `json:"audit_id"`
	VisitID int64 `json:"visit_id"`

	Vantage string `json:"vantage,omitempty"` // from where
	Host    string `json:"host,omitempty"`    // its address; "" for a look-up

	Scheduled bool      `json:"scheduled,omitempty"`
	Spread    int       `json:"spread,omitempty"` // seconds; it may be put off as long
	at        time.Time // before which it does not begin
}

// Kind implements river.JobArgs.
func (visitArgs) Kind() string { return "visit" }

// InsertOpts implements river.JobArgsWithInsertOpts.
func (a visitArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: queueOf(a.Vantage), MaxAttempts: visitAttempts, Priority: priority(a.Scheduled),
		ScheduledAt: a.at}
}

type visitWorker struct {
	river.WorkerDefaults[visitArgs]
	queue *Queue
}

// Timeout is just above the longest that a visit can take.
func (w *visitWorker) Timeout(*river.Job[visitArgs]) time.Duration {
	return w.queue.options.Limits.Longest() + 30*time.Second
}

// Work visits the address and stores what was observed, unless that was done before.
func (w *visitWorker) Work(ctx context.Context, job *river.Job[visitArgs]) error {
	q := w.queue
	return q.guard(ctx, job.Args.AuditID, false, func() error {
		visit, audit, err := q.store.Visit(ctx, job.Args.VisitID)
		if err != nil {
			return ignoreMissing(err)
		}
		if (audit.State == store.Planning || audit.State == store.Visiting) && visit.State == store.VisitWaiting {
			if wait := quietFor(audit, q.options.Now()); wait > 0 {
				return river.JobSnooze(wait/2 + rand.N(wait/2+1))
			}
			visitOne := w.visit
			if visit.Address == "" {
				visitOne = w.lookUp
			}
			if err := visitOne(ctx, visit, job.Attempt >= job.MaxAttempts); err != nil {
				return err
			}
		}
		return q.advance(ctx, visit)
	})
}

func (w *visitWorker) visit(ctx context.Context, visit store.Visit, last bool) error {
	q := w.queue
	started := q.options.Now()
	address, err := netip.ParseAddrPort(visit.Address)
	call := probe.Call{ServerName: visit.ServerName}
	if e, findErr := q.store.Endpoint(ctx, visit.EndpointID); findErr == nil {
		if target, targetErr := probe.TargetOf(e.Settings, q.options.Effort); targetErr == nil {
			call = target.Call()
			call.ServerName = visit.ServerName
		}
	}
	if q.options.Gate != nil && err == nil {
		if refused := q.options.Gate.Check(address); refused != nil { // nothing was learnt of the endpoint
			visit.State, visit.Failure = store.VisitFailed, refused.Error()
			return q.finish(context.WithoutCancel(ctx), visit)
		}
	}
	if paused, pauseErr := q.paused(ctx, visit, call); pauseErr != nil || paused != nil {
		if visit.State, visit.Observation = store.VisitDone, paused; pauseErr != nil {
			return pauseErr
		}
		return q.finish(context.WithoutCancel(ctx), visit)
	}
	if err == nil {
		leave, rest, laneErr := q.lanes.enter(ctx, address.Addr())
		if laneErr != nil {
			return laneErr
		}
		if leave == nil {
			return busy(rest)
		}
		defer func() {
			leave()
			if !errors.Is(err, probe.ErrBusy) {
				q.wake(context.WithoutCancel(ctx), visit, address.Addr())
			}
		}()
	}
	call.NoQueue = true // a job that waits would keep others from hosts that are free
	if err == nil {
		var o facts.Observation
		if o, err = q.options.Visit(ctx, address, call); err == nil {
			o.Vantage = visit.Vantage
			o.At = started.Truncate(time.Millisecond) // by the clock that all processes share
			visit.State, visit.Observation = store.VisitDone, &o
			if err := q.countUnfinished(context.WithoutCancel(ctx), visit, call, o); err != nil {
				return err
			}
			q.options.Metrics.visited(string(o.Outcome), q.options.Now().Sub(started), len(o.Connections))
		}
	}
	switch {
	case errors.Is(err, probe.ErrBusy):
		return busy(longBusy)
	case errors.Is(err, ErrNotTaken):
		return busy(0)
	}
	if err != nil {
		// Cut off, it goes on at the next start; and what this machine has run out of may be there again soon.
		if (ctx.Err() != nil || gone(err) || probe.Exhausted(err) != nil) && !last {
			return err
		}
		visit.State, visit.Failure = store.VisitFailed, err.Error()
	}
	return q.finish(context.WithoutCancel(ctx), visit)
}

// ErrAway says that who made a visit elsewhere is not heard of any more, and ErrNotTaken that nobody has begun it.
var (
	ErrAway     = errors.New("the worker there was not heard of any more during the visit")
	ErrNotTaken = errors.New("the worker there has not begun the visit")
)

// gone reports whether nothing was learnt because nobody was there.
func gone(err error) bool { return errors.Is(err, ErrAway) || errors.Is(err, ErrNotTaken) }

// longBusy is how long a visit waits at most for its host: whoever leaves the host wakes it. It is below the minute
// from which on jobs count as those of a clock that was put back.
const longBusy = 55 * time.Second

// busy puts a visit off: its host is being visited, or rests for a moment. A pause below a few seconds is kept by
// whoever takes the job; a longer one would be looked at every five seconds alone.
func busy(rest time.Duration) error {
	if rest < 2*time.Second {
		return river.JobSnooze(rest + rand.N(300*time.Millisecond))
	}
	return river.JobSnooze(longBusy - rand.N(15*time.Second))
}

// wakened is how many visits are woken when one has left a host: one for its place, and one more, since another process
// may take one of them that does not have the turn.
const wakened = 2

// wake has visits tried again that wait for the host. Where it fails they try by themselves, later.
func (q *Queue) wake(ctx context.Context, v store.Visit, host netip.Addr) {
	if err := q.store.WakeVisits(ctx, queueOf(v.Vantage), host.String(), wakened); err != nil {
		q.options.Log.Warn("visits that wait for a host were not woken; they try by themselves", "error", err)
	}
}

// jobOf is the job of a visit.
func jobOf(v store.Visit, scheduled bool) visitArgs {
	args := visitArgs{AuditID: v.AuditID, VisitID: v.ID, Vantage: v.Vantage, Scheduled: scheduled}
	if at, err := netip.ParseAddrPort(v.Address); err == nil {
		args.Host = at.Addr().String()
	}
	return args
}

// finish stores the result of a visit. Where the database cannot hold it, that
// is a defect of ours and what is stored instead.
func (q *Queue) finish(ctx context.Context, visit store.Visit) error {
	err := q.store.FinishVisit(ctx, visit)
	if err == nil || !store.IsContents(err) || visit.Observation == nil {
		return err
	}
	defect := q.options.Report.Note(visit.Address, fmt.Sprintf("the observation cannot be stored: %v", err))
	visit.Observation = &facts.Observation{Address: visit.Observation.Address, Vantage: visit.Vantage,
		ServerName: visit.ServerName, At: visit.Observation.At, Outcome: facts.ExaminationFailed,
		Detail: facts.Because(facts.OwnDefect, defect.Reference)}
	return q.store.FinishVisit(ctx, visit)
}

// advance has the endpoint judged once none of its visits is waiting any more.
func (q *Queue) advance(ctx context.Context, v store.Visit) error {
	return q.store.Tx(ctx, func(tx *store.Tx) error {
		return q.putJudge(ctx, tx, v.AuditID, func(audit int64) (bool, error) {
			return tx.VisitEnded(audit, v.EndpointID)
		})
	})
}

// putJudge inserts the job that judges, where it is wanted.
func (q *Queue) putJudge(ctx context.Context, tx *store.Tx, audit int64, wanted func(audit int64) (bool, error)) error {
	if yes, err := wanted(audit); err != nil || !yes {
		return err
	}
	return q.put(ctx, tx, judgeArgs{AuditID: audit})
}

// guard runs the work of a job, which may put itself off. When the last attempt fails the audit ends
// with the reason, so that nobody waits for it for ever.
func (q *Queue) guard(ctx context.Context, audit int64, last bool, work func() error) error {
	err := work()
	var later *river.JobSnoozeError
	if err == nil || errors.As(err, &later) {
		return err
	}
	q.options.Log.Error("job failed", "audit", audit, "error", err)
	if last && !errors.Is(err, context.Canceled) {
		return errors.Join(err, q.fail(context.WithoutCancel(ctx), audit, err.Error()))
	}
	return err
}

func ignoreMissing(err error) error {
	if errors.Is(err, store.ErrNotFound) { // the audit or endpoint was removed meanwhile
		return nil
	}
	return err
}
