package jobs

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"sync"
	"time"

	"github.com/riverqueue/river"

	"nurvik/core/facts"
	"nurvik/core/probe"
	"nurvik/internal/service/store"
)

// planArgs is the job that plans an audit.
type planArgs struct {
	AuditID   int64 `json:"audit_id"`
	Scheduled bool  `json:"scheduled,omitempty"` // nobody waits for it
}

// Kind implements river.JobArgs.
func (planArgs) Kind() string { return "plan" }

type planWorker struct {
	river.WorkerDefaults[planArgs]
	queue *Queue
}

// Work finds the addresses and inserts the visits with their jobs, all in one transaction.
func (w *planWorker) Work(ctx context.Context, job *river.Job[planArgs]) error {
	q, audit := w.queue, job.Args.AuditID
	return q.guard(ctx, audit, job.Attempt >= job.MaxAttempts, func() error {
		a, err := q.store.Audit(ctx, audit)
		if err != nil || a.State != store.Planning {
			return ignoreMissing(err)
		}
		examined, err := q.store.Examined(ctx, audit)
		if err != nil {
			return err
		}
		planned, visits := q.plan(ctx, audit, examined)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		pace, places := q.paceOf(a), map[int64]int{}
		for i, x := range examined {
			places[x.Endpoint.ID] = i
		}
		return q.store.Tx(ctx, func(tx *store.Tx) error {
			next := store.Visiting
			if len(visits) == 0 {
				next = store.Judging
			}
			moved, err := tx.Move(audit, next, q.options.Now(), store.Planning)
			if err != nil || !moved {
				return err
			}
			if visits, err = tx.PlanVisits(audit, planned, visits); err != nil {
				return err
			}
			if len(visits) == 0 {
				return q.put(ctx, tx, judgeArgs{AuditID: audit})
			}
			args := make([]river.JobArgs, len(visits))
			for i, v := range visits {
				args[i] = visitArgs{AuditID: audit, VisitID: v.ID, Scheduled: a.Schedule != "",
					Spread: int(pace.spread / time.Second), at: pace.at(places[v.EndpointID], len(examined))}
			}
			return q.put(ctx, tx, args...)
		})
	})
}

// plan resolves many names at once.
func (q *Queue) plan(ctx context.Context, audit int64, examined []store.Examined) (map[int64]facts.Endpoint,
	[]store.Visit) {
	var mutex sync.Mutex
	var group sync.WaitGroup
	planned := map[int64]facts.Endpoint{}
	var visits []store.Visit
	slots := make(chan struct{}, 32)
	for _, x := range examined {
		slots <- struct{}{}
		group.Go(func() {
			defer func() { <-slots }()
			f, addresses, serverName := q.planOne(ctx, x.Endpoint)
			mutex.Lock()
			defer mutex.Unlock()
			planned[x.Endpoint.ID] = f
			for _, address := range addresses {
				visits = append(visits, store.Visit{AuditID: audit, EndpointID: x.Endpoint.ID,
					Address: address.String(), ServerName: serverName, State: store.VisitWaiting})
			}
		})
	}
	group.Wait()
	return planned, visits
}

func (q *Queue) planOne(ctx context.Context, e store.Endpoint) (facts.Endpoint, []netip.AddrPort, string) {
	f := facts.Endpoint{Schema: facts.Schema, Endpoint: e.Target, Observations: []facts.Observation{}}
	target, err := probe.TargetOf(e.Settings, q.options.Effort)
	if err != nil { // checked when it was written; a later version may be stricter
		f.ResolveError = probe.Unresolved(err)
		return f, nil, ""
	}
	plan, err := q.prober.Plan(ctx, target)
	if probe.Exhausted(err) != nil { // nothing is known of the name
		f.Unvisited = []string{e.Target}
		return f, nil, ""
	}
	if err != nil {
		f.ResolveError = probe.Unresolved(err)
		return f, nil, ""
	}
	f.DNS = plan.DNS
	for _, a := range plan.NoRoute {
		f.NoRoute = append(f.NoRoute, a.Addr().String())
	}
	serverName := target.ServerName
	if serverName == "" {
		serverName = target.Endpoint.ServerName()
	}
	return f, plan.Visit, serverName
}

// InsertOpts implements river.JobArgsWithInsertOpts.
func (a planArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{MaxAttempts: otherAttempts, Priority: priority(a.Scheduled)}
}

// priority puts what somebody waits for before what a schedule has begun.
func priority(scheduled bool) int {
	if scheduled {
		return 3
	}
	return 1
}

// visitArgs is the job that visits one address.
type visitArgs struct {
	AuditID int64 `json:"audit_id"`
	VisitID int64 `json:"visit_id"`

	Scheduled bool      `json:"scheduled,omitempty"`
	Spread    int       `json:"spread,omitempty"` // seconds; it may be put off as long
	at        time.Time // before which it does not begin
}

// Kind implements river.JobArgs.
func (visitArgs) Kind() string { return "visit" }

// InsertOpts implements river.JobArgsWithInsertOpts.
func (a visitArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: visitQueue, MaxAttempts: visitAttempts, Priority: priority(a.Scheduled),
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
		if audit.State == store.Visiting && visit.State == store.VisitWaiting {
			if wait := quietFor(audit, q.options.Now()); wait > 0 {
				return river.JobSnooze(wait/2 + rand.N(wait/2+1))
			}
		}
		if audit.State == store.Visiting && visit.State == store.VisitWaiting {
			if err := w.visit(ctx, visit, job.Attempt >= job.MaxAttempts); err != nil {
				return err
			}
		}
		return q.advance(ctx, job.Args.AuditID)
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
	call.NoQueue = true // a job that waits would keep others from hosts that are free
	if err == nil {
		var o facts.Observation
		if o, err = q.prober.Visit(ctx, address, call); err == nil {
			o.At = started.Truncate(time.Millisecond) // by the clock that all processes share
			visit.State, visit.Observation = store.VisitDone, &o
			if err := q.countUnfinished(context.WithoutCancel(ctx), visit, call, o); err != nil {
				return err
			}
			q.options.Metrics.visited(string(o.Outcome), q.options.Now().Sub(started), len(o.Connections))
		}
	}
	if errors.Is(err, probe.ErrBusy) {
		return river.JobSnooze(time.Second + time.Duration(rand.Int64N(int64(4*time.Second))))
	}
	if err != nil {
		// Cut off, it goes on at the next start; and what this machine has run out of may be there again soon.
		if (ctx.Err() != nil || probe.Exhausted(err) != nil) && !last {
			return err
		}
		visit.State, visit.Failure = store.VisitFailed, err.Error()
	}
	return q.finish(context.WithoutCancel(ctx), visit)
}

// finish stores the result of a visit. Where the database cannot hold it, that
// is a defect of ours and what is stored instead.
func (q *Queue) finish(ctx context.Context, visit store.Visit) error {
	err := q.store.FinishVisit(ctx, visit)
	if err == nil || !store.IsContents(err) || visit.Observation == nil {
		return err
	}
	defect := q.options.Report.Note(visit.Address, fmt.Sprintf("the observation cannot be stored: %v", err))
	visit.Observation = &facts.Observation{Address: visit.Observation.Address, ServerName: visit.ServerName,
		At: visit.Observation.At, Outcome: facts.ExaminationFailed,
		Detail: facts.Because(facts.OwnDefect, defect.Reference)}
	return q.store.FinishVisit(ctx, visit)
}

// advance begins the judgement once nothing is waiting any more.
func (q *Queue) advance(ctx context.Context, audit int64) error {
	waiting, err := q.store.Waiting(ctx, audit)
	if err != nil || waiting {
		return err
	}
	return q.store.Tx(ctx, func(tx *store.Tx) error {
		moved, err := tx.Move(audit, store.Judging, q.options.Now(), store.Visiting)
		if err != nil || !moved {
			return err
		}
		return q.put(ctx, tx, judgeArgs{AuditID: audit})
	})
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
		return errors.Join(err, q.store.Fail(context.WithoutCancel(ctx), audit, err.Error(), q.options.Now()))
	}
	return err
}

func ignoreMissing(err error) error {
	if errors.Is(err, store.ErrNotFound) { // the audit or endpoint was removed meanwhile
		return nil
	}
	return err
}
