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
		var outcomes []*store.Outcome
		for i, x := range portion {
			f, v := observed[i], visits[x.Endpoint.ID]
			counts.Done += len(v)
			reason := ""
			switch {
			case f.Undecided():
				reason = unvisited(v)
			case len(f.Observations) == 0 && !f.ResolveError.Given(): // no address could be visited from here
				reason = "no address has a route from here"
			}
			if reason != "" {
				if err := tx.NotExamined(audit, x.Endpoint.ID, reason, true); err != nil {
					return err
				}
				continue
			}
			judged := judge.Rewaived(judgements[i], waivers.OfEndpoint(x.Endpoint), now)
			outcomes = append(outcomes, &store.Outcome{Audit: audit, Endpoint: x.Endpoint.ID, Facts: f,
				Judgement: judged, At: now})
		}
		if err := q.saveAll(tx, outcomes, (*store.Tx).SaveProvisional); err != nil {
			return err
		}
		for _, o := range outcomes {
			if len(o.Facts.Unvisited) > 0 { // judged by its other addresses
				if err := tx.NotExamined(audit, o.Endpoint, unvisited(visits[o.Endpoint]), false); err != nil {
					return err
				}
			}
			if o.Judgement.Verdict != "" {
				counts.Verdicts[string(o.Judgement.Verdict)]++
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

// saveAll stores outcomes, all at once, or one by one where the database cannot hold one of them or has lost an
// endpoint. What cannot be stored is told as a defect of ours, and an endpoint that was removed meanwhile is passed
// over.
func (q *Queue) saveAll(tx *store.Tx, all []*store.Outcome, put func(*store.Tx, []*store.Outcome) error) error {
	if len(all) == 0 {
		return nil
	}
	err := tx.Part(func(tx *store.Tx) error { return put(tx, all) })
	if !store.IsContents(err) && !store.IsMissing(err) {
		return err
	}
	for i, o := range all {
		target, one := o.Judgement.Target, func(tx *store.Tx) error { return put(tx, all[i:i+1]) }
		err := tx.Part(one)
		if store.IsContents(err) {
			defect := q.options.Report.Note(target, fmt.Sprintf("the judgement cannot be stored: %v", err))
			o.Facts = facts.Endpoint{Schema: facts.Schema, Endpoint: target, Observations: []facts.Observation{}}
			o.Judgement, o.Stored = judge.NotJudged(target, "endpoint", o.Judgement.Basis, defect), false
			err = tx.Part(one)
		}
		if err != nil && !store.IsMissing(err) {
			return fmt.Errorf("%s: %w", target, err)
		}
	}
	return nil
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
