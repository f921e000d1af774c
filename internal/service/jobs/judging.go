package jobs

import (
	"context"
	"fmt"
	"time"

	"github.com/riverqueue/river"

	"nurvik/core/assess"
	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/policy"
	"nurvik/core/trust"
	"nurvik/internal/inquiry"
	"nurvik/internal/service/store"
)

// judgeArgs is the job that judges an audit.
type judgeArgs struct {
	AuditID int64 `json:"audit_id"`
}

// Kind implements river.JobArgs.
func (judgeArgs) Kind() string { return "judge" }

// InsertOpts implements river.JobArgsWithInsertOpts.
func (judgeArgs) InsertOpts() river.InsertOpts { return river.InsertOpts{MaxAttempts: otherAttempts} }

type judgeWorker struct {
	river.WorkerDefaults[judgeArgs]
	queue *Queue
}

// Work judges every endpoint as of now and ends the audit, all in one transaction.
func (w *judgeWorker) Work(ctx context.Context, job *river.Job[judgeArgs]) error {
	q, audit := w.queue, job.Args.AuditID
	return q.guard(ctx, audit, job.Attempt >= job.MaxAttempts, func() error {
		a, err := q.store.Audit(ctx, audit)
		if err != nil || a.State != store.Judging {
			return ignoreMissing(err)
		}
		return q.judge(ctx, a)
	})
}

func (q *Queue) judge(ctx context.Context, a store.Audit) error {
	examined, err := q.store.Examined(ctx, a.ID)
	if err != nil {
		return err
	}
	failures, err := q.store.Unvisited(ctx, a.ID)
	if err != nil {
		return err
	}
	observed, err := q.observed(ctx, a.ID, examined, failures)
	if err != nil {
		return err
	}
	library, err := q.library(ctx)
	if err != nil {
		return err
	}
	now := q.options.Now()
	engine, err := q.engine(ctx, library, assess.Options{At: now})
	if err != nil {
		return err
	}
	engine.LearnFacts(observed, nil)
	engine.Ready()
	expected := make([]assess.Expectation, len(examined))
	for i, x := range examined {
		expected[i] = library.Expect(x.Endpoint.Settings)
	}
	q.options.Desk.Complete(ctx, len(observed), func(i int) inquiry.Target {
		return inquiry.Target{Endpoint: &observed[i], Engine: engine, Expected: expected[i]}
	}, nil)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	of := func(i int) assess.Expectation { return expected[i] }
	judgements := engine.Endpoints(observed, of)
	if err := q.reconcile(ctx, a.ID, library, engine, observed, judgements, of); err != nil {
		return err
	}
	holdings, err := q.store.Holdings(ctx)
	if err != nil {
		return err
	}
	return q.store.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.Sole("judging"); err != nil {
			return err
		}
		waivers, err := tx.Waivers() // here, so that none is missed that somebody adds meanwhile
		if err != nil {
			return err
		}
		for i, x := range examined {
			judged := judge.Rewaived(judgements[i], waivers.OfEndpoint(x.Endpoint), now)
			if err := q.save(tx, a.ID, x.Endpoint, observed[i], judged, failures[x.Endpoint.ID],
				now); err != nil {
				return fmt.Errorf("%s: %w", x.Endpoint.Target, err)
			}
		}
		var again []river.JobArgs // time passes and trust stores change, so holdings are judged anew
		for _, h := range holdings {
			again = append(again, holdingArgs{HoldingID: h.ID})
		}
		if err := q.put(ctx, tx, again...); err != nil {
			return err
		}
		_, err = tx.Move(a.ID, store.Finished, now, store.Judging)
		return err
	})
}

// save stores the judgement of one endpoint. What cannot be stored is told as a
// defect of ours, and an endpoint that was removed meanwhile is passed over.
func (q *Queue) save(tx *store.Tx, audit int64, e store.Endpoint, f facts.Endpoint, j judge.Judgement,
	failed []store.Visit, now time.Time) error {
	switch {
	case f.Undecided():
		return tx.NotExamined(audit, e.ID, unvisited(failed))
	case len(f.Observations) == 0 && !f.ResolveError.Given(): // no address could be visited from here
		return tx.NotExamined(audit, e.ID, "no address has a route from here")
	}
	put := func(j judge.Judgement) error {
		return tx.Part(func(tx *store.Tx) error { return tx.SaveJudgement(audit, e.ID, f, j, now) })
	}
	err := put(j)
	if store.IsContents(err) {
		defect := q.options.Report.Note(e.Target, fmt.Sprintf("the judgement cannot be stored: %v", err))
		f = facts.Endpoint{Schema: facts.Schema, Endpoint: e.Target, Observations: []facts.Observation{}}
		err = put(judge.NotJudged(e.Target, "endpoint", j.Basis, defect))
	}
	switch {
	case store.IsMissing(err):
		return nil
	case err == nil && len(f.Unvisited) > 0: // judged by its other addresses
		return tx.NotExamined(audit, e.ID, unvisited(failed))
	}
	return err
}

// unvisited says why an endpoint, or one of its addresses, was not visited.
func unvisited(failed []store.Visit) string {
	if len(failed) == 0 {
		return "its address was not looked up: this machine had run out of file descriptors, local ports or memory"
	}
	return failed[0].Address + ": " + failed[0].Failure
}

// observed are the facts of each endpoint of the audit, in the order of the endpoints.
func (q *Queue) observed(ctx context.Context, audit int64, examined []store.Examined,
	failures map[int64][]store.Visit) ([]facts.Endpoint, error) {
	out := make([]facts.Endpoint, len(examined))
	place := map[int64]int{}
	for i, x := range examined {
		out[i] = facts.Endpoint{Schema: facts.Schema, Endpoint: x.Endpoint.Target}
		if x.Facts != nil {
			out[i] = *x.Facts
		}
		out[i].Observations, place[x.Endpoint.ID] = nil, i
		for _, v := range failures[x.Endpoint.ID] {
			out[i].Unvisited = append(out[i].Unvisited, v.Address)
		}
	}
	err := q.store.Observations(ctx, audit, func(v store.Visit) {
		if v.Observation != nil {
			f := &out[place[v.EndpointID]]
			f.Observations = append(f.Observations, *v.Observation)
		}
	})
	return out, err
}

// library is what settings refer to by name.
func (q *Queue) library(ctx context.Context) (*assess.Library, error) {
	l := &assess.Library{Stores: map[string]*trust.Store{}, Policies: map[string]policy.Policy{},
		System: (&trust.Loader{}).System}
	stores, err := q.store.TrustStores(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range stores {
		l.Stores[r.Name] = r.Trusted()
	}
	texts, err := q.store.PolicyTexts(ctx)
	if err != nil {
		return nil, err
	}
	for _, t := range texts {
		p, err := policy.Parse(t.Name, []byte(t.Text))
		if err != nil { // it was checked when it was saved; a later version may be stricter
			return nil, fmt.Errorf("policy %s, version %d: %w", t.Name, t.Version, err)
		}
		p.Name, p.Version = t.Name, t.Version
		l.Policies[t.Name] = p
	}
	return l, nil
}

// engine is one that knows every certificate of a CA that was ever met.
func (q *Queue) engine(ctx context.Context, l *assess.Library, o assess.Options) (*assess.Engine, error) {
	o.Anchors, o.Report = l.All(), q.options.Report
	authorities, err := q.store.Authorities(ctx)
	if err != nil {
		return nil, err
	}
	e := assess.New(o)
	e.Learn(authorities...)
	return e, nil
}
