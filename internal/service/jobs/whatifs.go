package jobs

import (
	"context"

	"github.com/riverqueue/river"

	"nurvik/core/assess"
	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/pki"
	"nurvik/core/policy"
	"nurvik/internal/api"
	"nurvik/internal/service/store"
)

// whatIfArgs is the job that answers a what-if.
type whatIfArgs struct {
	WhatIfID int64 `json:"what_if_id"`
}

// Kind implements river.JobArgs.
func (whatIfArgs) Kind() string { return "what-if" }

// InsertOpts implements river.JobArgsWithInsertOpts.
func (whatIfArgs) InsertOpts() river.InsertOpts { return river.InsertOpts{MaxAttempts: otherAttempts} }

type whatIfWorker struct {
	river.WorkerDefaults[whatIfArgs]
	queue *Queue
}

// Work judges what was observed last, otherwise, and stores the difference to the record.
func (w *whatIfWorker) Work(ctx context.Context, job *river.Job[whatIfArgs]) error {
	q, id := w.queue, job.Args.WhatIfID
	x, err := q.store.WhatIf(ctx, id)
	if err != nil || x.State != "judging" {
		return ignoreMissing(err)
	}
	if err = q.answer(ctx, x); err == nil || ctx.Err() != nil {
		return err
	}
	q.options.Log.Error("job failed", "what-if", id, "error", err)
	if job.Attempt >= job.MaxAttempts {
		return q.store.FailWhatIf(context.WithoutCancel(ctx), id, err.Error(), q.options.Now())
	}
	return err
}

// Ask inserts a what-if with its job.
func (q *Queue) Ask(ctx context.Context, question store.WhatIfQuestion) (store.WhatIf, error) {
	w := store.WhatIf{State: "judging", Question: question, CreatedAt: q.options.Now()}
	err := q.store.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.CreateWhatIf(&w); err != nil {
			return err
		}
		return q.put(ctx, tx, whatIfArgs{WhatIfID: w.ID})
	})
	return w, err
}

func (q *Queue) answer(ctx context.Context, w store.WhatIf) error {
	library, err := q.library(ctx)
	if err != nil {
		return err
	}
	other, err := otherPolicy(library, w.Question)
	if err != nil {
		return err
	}
	options := assess.Options{At: w.Question.At}
	for _, text := range w.Question.Distrust {
		f, err := pki.ParseFingerprint(text)
		if err != nil {
			return err
		}
		options.Distrust = append(options.Distrust, f)
	}
	engine, err := q.engine(ctx, library, options)
	if err != nil {
		return err
	}
	engine.Ready()
	waivers, err := q.store.Waivers(ctx)
	if err != nil {
		return err
	}
	var answer api.WhatIfAnswer
	var rows []store.WhatIfEndpoint
	err = q.store.EachLatest(ctx, w.Question.EndpointIDs,
		func(endpoints []store.Endpoint, examinations []store.Examination) error {
			observed, ids := make([]facts.Endpoint, len(endpoints)), make([]int64, len(endpoints))
			for i, x := range examinations {
				observed[i], ids[i] = *x.Facts, endpoints[i].ID
			}
			present, err := q.store.Present(ctx, ids)
			if err != nil {
				return err
			}
			expected := make([]assess.Expectation, len(endpoints))
			for i, e := range endpoints {
				if expected[i] = library.Expect(e.Settings); other != nil {
					expected[i].Policy = *other
				}
			}
			judgements := engine.Endpoints(observed, func(i int) assess.Expectation { return expected[i] })
			for i, e := range endpoints {
				change := difference(e, judge.Rewaived(judgements[i], waivers.OfEndpoint(e), engine.At()),
					present[e.ID])
				count(&answer, change)
				if len(change.Appear)+len(change.Go) > 0 || change.Record != change.Verdict {
					rows = append(rows, store.WhatIfEndpoint{WhatIfID: w.ID, EndpointID: e.ID, Target: e.Target,
						Result: change})
				}
			}
			return ctx.Err()
		})
	if err != nil {
		return err
	}
	asked := len(w.Question.EndpointIDs)
	if asked == 0 {
		counts, err := q.store.VerdictCounts(ctx, "")
		if err != nil {
			return err
		}
		for _, n := range counts {
			asked += n
		}
	}
	answer.Unseen = max(asked-answer.Endpoints, 0)
	return q.store.Tx(ctx, func(tx *store.Tx) error { return tx.FinishWhatIf(w.ID, answer, rows, q.options.Now()) })
}

// otherPolicy is the policy that the question names, nil for those that are assigned.
func otherPolicy(library *assess.Library, question store.WhatIfQuestion) (*policy.Policy, error) {
	var p policy.Policy
	var err error
	switch {
	case question.PolicyText != "":
		p, err = policy.Parse("policy", []byte(question.PolicyText))
		p.Chosen = true
	case question.Policy != "":
		p, err = library.PolicyNamed(question.Policy)
	default:
		return nil, nil
	}
	return &p, err
}

// difference compares a judgement with the record of the endpoint.
func difference(e store.Endpoint, j judge.Judgement, record []store.Finding) api.WhatIfEndpoint {
	out := api.WhatIfEndpoint{EndpointID: e.ID, Endpoint: e.Target, Record: judge.Verdict(e.Verdict),
		Verdict: j.Verdict, Basis: *j.Basis,
		Appear: []judge.Finding{}, Go: []judge.Finding{}}
	before := map[string]store.Finding{}
	for _, f := range record {
		before[f.ID] = f
	}
	for _, f := range j.Findings {
		id := judge.Identity(j.Target, f)
		old, there := before[id]
		if there && old.Finding.Severity == f.Severity && old.Finding.Counts() == f.Counts() {
			delete(before, id)
			continue
		}
		out.Appear = append(out.Appear, f) // and what weighed or counted otherwise goes
	}
	for _, f := range record {
		if _, goes := before[f.ID]; goes {
			out.Go = append(out.Go, f.Finding)
		}
	}
	return out
}

// count adds an endpoint to the sum.
func count(a *api.WhatIfAnswer, e api.WhatIfEndpoint) {
	a.Endpoints++
	a.Appear += len(e.Appear)
	a.Go += len(e.Go)
	a.Verdicts.Count(e.Verdict)
	a.Record.Count(e.Record)
	for _, f := range e.Appear {
		if f.Counts() && (a.Worst == "" || f.Severity.AtLeast(a.Worst)) {
			a.Worst = f.Severity
		}
	}
}
