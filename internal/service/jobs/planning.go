package jobs

import (
	"context"
	"net/netip"
	"slices"
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

// planPortion is how many endpoints are planned in one transaction.
const planPortion = 500

// Work finds the addresses and inserts the visits with their jobs, a portion of the endpoints at a time. Visits begin
// while the rest is planned, and what is planned stays so when the job is cut off.
func (w *planWorker) Work(ctx context.Context, job *river.Job[planArgs]) error {
	q, audit, started := w.queue, job.Args.AuditID, time.Now()
	return q.guard(ctx, audit, job.Attempt >= job.MaxAttempts, func() error {
		a, err := q.store.Audit(ctx, audit)
		if err != nil || a.State != store.Planning {
			return ignoreMissing(err)
		}
		all, left, err := q.store.Stages(ctx, audit, store.Unplanned)
		if err != nil {
			return err
		}
		pace := q.paceOf(a)
		for place := all - left; ; {
			portion, err := q.store.Portion(ctx, audit, store.Unplanned, planPortion)
			if err != nil {
				return err
			}
			if len(portion) == 0 {
				break
			}
			planned, visits := q.plan(ctx, audit, portion)
			if ctx.Err() != nil {
				return ctx.Err()
			}
			begin := map[int64]time.Time{}
			for i, x := range portion {
				begin[x.Endpoint.ID] = pace.at(place+i, all)
			}
			going, err := q.savePlan(ctx, a, planned, visits, begin)
			if err != nil || !going {
				return err
			}
			place += len(portion)
			if over, err := q.over(ctx, started, job.Args); err != nil || over {
				return err
			}
		}
		err = q.store.Tx(ctx, func(tx *store.Tx) error {
			_, err := tx.Move(audit, store.Visiting, q.options.Now(), store.Planning)
			return err
		})
		if err != nil {
			return err
		}
		return q.conclude(ctx, audit)
	})
}

// savePlan inserts the visits of a portion; it reports whether the audit goes on.
func (q *Queue) savePlan(ctx context.Context, a store.Audit, planned map[int64]facts.Endpoint, visits []store.Visit,
	begin map[int64]time.Time) (going bool, err error) {
	spread := int(q.paceOf(a).spread / time.Second)
	err = q.store.Tx(ctx, func(tx *store.Tx) error {
		held, err := tx.HoldAudit(a.ID, store.Planning)
		if going = held != nil; err != nil || !going {
			return err
		}
		saved, err := tx.PlanVisits(a.ID, planned, visits)
		if err != nil {
			return err
		}
		if err := tx.Count(held, func(s *store.Summary) { s.Visits += len(saved) }); err != nil {
			return err
		}
		list := make([]river.JobArgs, len(saved))
		unvisited := len(planned)
		met := map[int64]bool{}
		for i, v := range saved {
			one := jobOf(v, a.Schedule != "")
			one.Spread, one.at = spread, begin[v.EndpointID]
			list[i] = one
			if !met[v.EndpointID] {
				met[v.EndpointID], unvisited = true, unvisited-1
			}
		}
		if unvisited > 0 { // they can be judged as they are
			if err := q.putJudge(ctx, tx, a.ID, tx.QueueJudge); err != nil {
				return err
			}
		}
		return q.put(ctx, tx, list...)
	})
	return going, err
}

// plan resolves many names at once.
func (q *Queue) plan(ctx context.Context, audit int64, examined []store.Examined) (map[int64]facts.Endpoint,
	[]store.Visit) {
	var mutex sync.Mutex
	var group sync.WaitGroup
	planned := map[int64]facts.Endpoint{}
	var visits []store.Visit
	examined = slices.DeleteFunc(slices.Clone(examined), func(x store.Examined) bool {
		for _, name := range x.Endpoint.Settings.Vantages { // there its name is looked up, and may lead elsewhere
			visits = append(visits, store.Visit{AuditID: audit, EndpointID: x.Endpoint.ID, Vantage: name,
				State: store.VisitWaiting})
			planned[x.Endpoint.ID] = facts.Endpoint{Schema: facts.Schema, Endpoint: x.Endpoint.Target,
				Observations: []facts.Observation{}}
		}
		return len(x.Endpoint.Settings.Vantages) > 0
	})
	slots := make(chan struct{}, 32)
	for _, x := range examined {
		slots <- struct{}{}
		group.Go(func() {
			defer func() { <-slots }()
			f, addresses, serverName, err := q.planOne(ctx, x.Endpoint)
			if err != nil { // this process looks up itself, and is not away
				f.Unvisited = []string{x.Endpoint.Target}
			}
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

// planOne looks up one endpoint. The error is one of gone.
func (q *Queue) planOne(ctx context.Context, e store.Endpoint) (f facts.Endpoint, visit []netip.AddrPort,
	serverName string, err error) {
	f = facts.Endpoint{Schema: facts.Schema, Endpoint: e.Target, Observations: []facts.Observation{}}
	target, err := probe.TargetOf(e.Settings, q.options.Effort)
	if err != nil { // checked when it was written; a later version may be stricter
		f.ResolveError = probe.Unresolved(err)
		return f, nil, "", nil
	}
	plan, err := q.options.Plan(ctx, target)
	if gone(err) {
		return f, nil, "", err
	}
	if probe.Exhausted(err) != nil { // nothing is known of the name
		f.Unvisited = []string{e.Target}
		return f, nil, "", nil
	}
	if err != nil {
		f.ResolveError = probe.Unresolved(err)
		return f, nil, "", nil
	}
	f.DNS = plan.DNS
	for _, a := range plan.NoRoute {
		f.NoRoute = append(f.NoRoute, a.Addr().String())
	}
	serverName = target.ServerName
	if serverName == "" {
		serverName = target.Endpoint.ServerName()
	}
	return f, plan.Visit, serverName, nil
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
