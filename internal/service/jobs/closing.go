package jobs

import (
	"context"
	"errors"
	"slices"
	"time"

	"github.com/riverqueue/river"

	"nurvik/core/assess"
	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/pki"
	"nurvik/internal/inquiry"
	"nurvik/internal/service/store"
)

// closeArgs is the job that ends an audit.
type closeArgs struct {
	AuditID int64     `json:"audit_id"`
	At      time.Time `json:"at"` // as of which everything is judged
}

// Kind implements river.JobArgs.
func (closeArgs) Kind() string { return "close" }

// InsertOpts implements river.JobArgsWithInsertOpts.
func (closeArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: judgeQueue, MaxAttempts: otherAttempts}
}

type closeWorker struct {
	river.WorkerDefaults[closeArgs]
	queue *Queue
}

// conclude has the audit ended once everything of it was visited and judged.
func (q *Queue) conclude(ctx context.Context, audit int64) error {
	return q.store.Tx(ctx, func(tx *store.Tx) error {
		if held, err := tx.HoldAudit(audit, store.Visiting); err != nil || held == nil {
			return err
		}
		if all, err := tx.JudgedAll(audit); err != nil || !all {
			return err
		}
		now := q.options.Now()
		if _, err := tx.Move(audit, store.Judging, now, store.Visiting); err != nil {
			return err
		}
		return q.put(ctx, tx, closeArgs{AuditID: audit, At: now})
	})
}

// fail ends the audit with a reason, and has closed what was judged until now. Where it has ended, that has failed too,
// and nothing more is tried.
func (q *Queue) fail(ctx context.Context, audit int64, reason string) error {
	return q.store.Tx(ctx, func(tx *store.Tx) error {
		now := q.options.Now()
		closing, err := tx.HoldAudit(audit, store.Judging)
		if err != nil {
			return err
		}
		failed, err := tx.Fail(audit, reason, now)
		if err != nil || !failed || closing != nil {
			return err
		}
		return q.put(ctx, tx, closeArgs{AuditID: audit, At: now})
	})
}

// Work judges everything once more, from what is stored: as of one time, by all certificates of CAs that the audit met,
// whichever endpoint showed them, and with what the others serve and the machines hold. So it makes no difference in
// which order endpoints were visited. Findings live on now. An audit that was cancelled or failed ends so too, with
// what was judged until then.
func (w *closeWorker) Work(ctx context.Context, job *river.Job[closeArgs]) error {
	q, audit, started := w.queue, job.Args.AuditID, time.Now()
	return q.guard(ctx, audit, job.Attempt >= job.MaxAttempts, func() error {
		a, err := q.store.Audit(ctx, audit)
		if err != nil || a.State != store.Judging && a.State != store.Cancelled && a.State != store.Failed {
			return ignoreMissing(err)
		}
		next := func() (bool, error) { return q.over(ctx, started, job.Args) }
		if over, err := q.closeAll(ctx, a, job.Args.At, next); err != nil || over {
			return err
		}
		if err := q.judgeElsewhere(ctx, a, job.Args.At); err != nil {
			if ctx.Err() != nil || !errors.Is(err, context.DeadlineExceeded) {
				return err
			}
			q.options.Log.Warn("not all endpoints that wait for an issuer were judged again; their next audits do it",
				"audit", audit)
		}
		if err := q.store.ForgetVisits(ctx, audit); err != nil {
			return err
		}
		holdings, err := q.store.Holdings(ctx)
		if err != nil {
			return err
		}
		return q.store.Tx(ctx, func(tx *store.Tx) error {
			ended, err := tx.Move(a.ID, store.Finished, q.options.Now(), store.Judging)
			if err != nil {
				return err
			}
			if !ended { // it was cancelled, or failed
				return tx.Summarise(a.ID)
			}
			var again []river.JobArgs // time passes and trust stores change, so holdings are judged anew
			for _, h := range holdings {
				again = append(again, holdingArgs{HoldingID: h.ID})
			}
			return q.put(ctx, tx, again...)
		})
	})
}

// closing is what all portions of an audit are judged by.
type closing struct {
	audit    store.Audit
	at       time.Time
	library  *assess.Library
	engine   *assess.Engine
	machines *machines
	again    bool // certificates of CAs were met for the first time, so that some issuers are to be asked again
	// Whether it is what another audit observed that is judged.
	elsewhere bool
}

func (q *Queue) closing(ctx context.Context, a store.Audit, at time.Time) (c closing, err error) {
	c = closing{audit: a, at: at}
	if c.library, err = q.library(ctx); err != nil {
		return c, err
	}
	if c.engine, err = q.engine(ctx, c.library, assess.Options{At: at}); err != nil {
		return c, err
	}
	c.engine.Ready()
	c.machines, err = q.machines(ctx, c.library, c.engine)
	return c, err
}

// closeAll closes one portion after another, until another job is to go on with it.
func (q *Queue) closeAll(ctx context.Context, a store.Audit, at time.Time, next func() (bool, error)) (over bool,
	err error) {
	if err := q.store.CloseUnexamined(ctx, a.ID); err != nil {
		return false, err
	}
	c, err := q.closing(ctx, a, at)
	if err != nil {
		return false, err
	}
	met, err := q.store.MetAuthorities(ctx, a.CreatedAt)
	if err != nil {
		return false, err
	}
	c.again = len(met) > 0
	for !over {
		portion, err := q.store.Portion(ctx, a.ID, store.Judged, portionJudged)
		if err != nil || len(portion) == 0 {
			return false, err
		}
		if err := q.closePortion(ctx, c, portion); err != nil {
			return false, err
		}
		if over, err = next(); err != nil {
			return false, err
		}
	}
	return true, nil
}

func (q *Queue) closePortion(ctx context.Context, c closing, portion []store.Examined) error {
	observed, expected := make([]facts.Endpoint, len(portion)), expectations(c.library, portion)
	var waiting []int
	var ids []int64
	for i, x := range portion {
		ids = append(ids, x.Endpoint.ID)
		observed[i] = *x.Facts
		if c.again && waits(x.Judgement) {
			waiting = append(waiting, i)
			observed[i].Fetched, observed[i].RevocationAsked, observed[i].Revocation = nil, false, nil
		}
	}
	q.options.Desk.Complete(ctx, len(waiting), func(n int) inquiry.Target {
		i := waiting[n]
		return inquiry.Target{Endpoint: &observed[i], Engine: c.engine, Expected: expected[i]}
	}, nil)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	of := func(i int) assess.Expectation { return expected[i] }
	judgements := c.engine.Endpoints(observed, of)
	for i, x := range portion {
		if len(observed[i].Observations) == 0 && !observed[i].ResolveError.Given() {
			judgements[i] = *x.Judgement // that it could not be stored
		}
	}
	if err := q.reconcile(ctx, c, portion, observed, judgements, of); err != nil {
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
		outcomes := make([]*store.Outcome, len(portion))
		for i, x := range portion {
			outcomes[i] = &store.Outcome{Audit: x.AuditID, Endpoint: x.Endpoint.ID, Facts: observed[i],
				Stored: !slices.Contains(waiting, i), At: c.at, SawAt: c.at,
				Judgement: judge.Rewaived(judgements[i], waivers.OfEndpoint(x.Endpoint), c.at)}
			if c.elsewhere && x.Endpoint.ObservedAt != nil {
				outcomes[i].SawAt = *x.Endpoint.ObservedAt
			}
		}
		if err := q.saveAll(tx, outcomes, (*store.Tx).SaveJudgement); err != nil {
			return err
		}
		return tx.Condense(c.audit.ID, ids)
	})
}

// ofIssuers are the codes of findings that may be otherwise when more certificates of CAs are known.
var ofIssuers = []string{"chain.incomplete", "trust.unknown-anchor"}

func waits(j *judge.Judgement) bool {
	return slices.ContainsFunc(j.Findings, func(f judge.Finding) bool { return slices.Contains(ofIssuers, f.Code) })
}

// judgeElsewhere judges again, from what was observed of them last, the endpoints outside of the audit that wait for a
// certificate of a CA that was met in it for the first time.
func (q *Queue) judgeElsewhere(ctx context.Context, a store.Audit, at time.Time) error {
	ctx, cancel := context.WithTimeout(ctx, longest/2)
	defer cancel()
	met, err := q.store.MetAuthorities(ctx, a.CreatedAt)
	if err != nil || len(met) == 0 {
		return err
	}
	names := map[string]bool{}
	for _, der := range met {
		if c, err := pki.ParseCertificate(der); err == nil {
			names[c.Subject.Key()] = true
		}
	}
	var c closing
	for after := int64(0); ; {
		portion, err := q.store.WaitingElsewhere(ctx, a.ID, ofIssuers, after, portionJudged)
		if err != nil || len(portion) == 0 {
			return err
		}
		after = portion[len(portion)-1].Endpoint.ID
		portion = slices.DeleteFunc(portion, func(x store.Examined) bool {
			return x.Facts == nil || x.Judgement == nil || !issuedBy(x.Facts, names)
		})
		if len(portion) == 0 {
			continue
		}
		if c.engine == nil {
			if c, err = q.closing(ctx, a, at); err != nil {
				return err
			}
			c.again, c.elsewhere = true, true
		}
		if err := q.closePortion(ctx, c, portion); err != nil {
			return err
		}
	}
}

// issuedBy reports whether the endpoint serves a certificate with one of the names as its issuer's.
func issuedBy(f *facts.Endpoint, names map[string]bool) bool {
	for _, o := range f.Observations {
		for _, der := range o.Certificates {
			if c, err := pki.ParseCertificate(der); err == nil && names[c.Issuer.Key()] {
				return true
			}
		}
	}
	return false
}
