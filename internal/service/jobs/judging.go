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

// judgeArgs is the job that judges what was visited in an audit. There is one at a time.
type judgeArgs struct {
	AuditID int64 `json:"audit_id"`
}

// Kind implements river.JobArgs.
func (judgeArgs) Kind() string { return "judge" }

// InsertOpts implements river.JobArgsWithInsertOpts.
func (judgeArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: judgeQueue, MaxAttempts: otherAttempts}
}

type judgeWorker struct {
	river.WorkerDefaults[judgeArgs]
	queue *Queue
}

// portionJudged is how many endpoints are judged in one transaction, and how many facts are in memory at once.
const portionJudged = 200

// Work judges endpoints whose visits have ended, until there are no more.
func (w *judgeWorker) Work(ctx context.Context, job *river.Job[judgeArgs]) error {
	q, audit, started := w.queue, job.Args.AuditID, time.Now()
	return q.guard(ctx, audit, job.Attempt >= job.MaxAttempts, func() error {
		for done := false; !done; {
			portion, err := q.store.Portion(ctx, audit, store.Visited, portionJudged)
			if err != nil {
				return err
			}
			if len(portion) > 0 {
				if err := q.judge(ctx, audit, portion); err != nil {
					return err
				}
				if over, err := q.over(ctx, started, job.Args); err != nil || over {
					return err
				}
			}
			if err := q.store.Tx(ctx, func(tx *store.Tx) (err error) {
				done, err = tx.DoneJudging(audit)
				return err
			}); err != nil {
				return err
			}
		}
		return q.conclude(ctx, audit)
	})
}

// judge judges endpoints by what each showed and what its issuers say. What others show comes at the end of the audit.
func (q *Queue) judge(ctx context.Context, audit int64, portion []store.Examined) error {
	visits, err := q.store.VisitsOf(ctx, audit, portion)
	if err != nil {
		return err
	}
	observed := make([]facts.Endpoint, len(portion))
	for i, x := range portion {
		observed[i] = observedAt(x, visits[x.Endpoint.ID])
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
	expected := expectations(library, portion)
	q.options.Desk.Complete(ctx, len(observed), func(i int) inquiry.Target {
		return inquiry.Target{Endpoint: &observed[i], Engine: engine, Expected: expected[i]}
	}, nil)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	judgements := engine.Endpoints(observed, func(i int) assess.Expectation { return expected[i] })
	return q.store.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.Sole("judging"); err != nil {
			return err
		}
		held, err := tx.HoldAudit(audit, store.Planning, store.Visiting)
		if err != nil || held == nil {
			return err
		}
		counts := store.Summary{Judged: len(portion), Verdicts: map[string]int{}}
		waivers, err := tx.Waivers() // here, so that none is missed that somebody adds meanwhile
		if err != nil {
			return err
		}
		for i, x := range portion {
			judged := judge.Rewaived(judgements[i], waivers.OfEndpoint(x.Endpoint), now)
			saved, err := q.save(tx, x, observed[i], judged, visits[x.Endpoint.ID], now)
			if err != nil {
				return fmt.Errorf("%s: %w", x.Endpoint.Target, err)
			}
			counts.Done += len(visits[x.Endpoint.ID])
			if saved != "" {
				counts.Verdicts[string(saved)]++
			}
		}
		return tx.Count(held, func(s *store.Summary) { s.Add(counts) })
	})
}

func expectations(l *assess.Library, portion []store.Examined) []assess.Expectation {
	out := make([]assess.Expectation, len(portion))
	for i, x := range portion {
		out[i] = l.Expect(x.Endpoint.Settings)
	}
	return out
}

// save stores the judgement of one endpoint, and returns its verdict, "" where there is none. What cannot be stored is
// told as a defect of ours, and an endpoint that was removed meanwhile is passed over.
func (q *Queue) save(tx *store.Tx, x store.Examined, f facts.Endpoint, j judge.Judgement, visits []store.Visit,
	now time.Time) (judge.Verdict, error) {
	audit, e := x.AuditID, x.Endpoint
	switch {
	case f.Undecided():
		return "", tx.NotExamined(audit, e.ID, unvisited(visits), true)
	case len(f.Observations) == 0 && !f.ResolveError.Given(): // no address could be visited from here
		return "", tx.NotExamined(audit, e.ID, "no address has a route from here", true)
	}
	err := q.storable(tx, e.Target, &f, &j, func(tx *store.Tx) error {
		return tx.SaveProvisional(audit, e.ID, f, &j, now)
	})
	if err == nil && len(f.Unvisited) > 0 { // judged by its other addresses
		err = tx.NotExamined(audit, e.ID, unvisited(visits), false)
	}
	return j.Verdict, err
}

// storable puts what is to be stored, or tells a defect of ours in the place of what cannot be. An endpoint that was
// removed meanwhile is passed over.
func (q *Queue) storable(tx *store.Tx, target string, f *facts.Endpoint, j *judge.Judgement,
	put func(tx *store.Tx) error) error {
	err := tx.Part(put)
	if store.IsContents(err) {
		defect := q.options.Report.Note(target, fmt.Sprintf("the judgement cannot be stored: %v", err))
		*f = facts.Endpoint{Schema: facts.Schema, Endpoint: target, Observations: []facts.Observation{}}
		*j = judge.NotJudged(target, "endpoint", j.Basis, defect)
		err = tx.Part(put)
	}
	if store.IsMissing(err) {
		return nil
	}
	return err
}

// unvisited says why an endpoint, or one of its addresses, was not visited.
func unvisited(visits []store.Visit) string {
	for _, v := range visits {
		if v.State == store.VisitFailed {
			return placeOf(v) + ": " + v.Failure
		}
	}
	return "its address was not looked up: this machine had run out of file descriptors, local ports or memory"
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
