package jobs

import (
	"context"
	"fmt"

	"github.com/riverqueue/river"

	"nurvik/core/assess"
	"nurvik/core/brief"
	"nurvik/core/endpoint"
	"nurvik/core/facts"

	"nurvik/core/judge"
	"nurvik/internal/service/store"
)

// maxShared is up to how many RSA keys of a holding the service looks for
// shared prime factors: so many take a second or two.
const maxShared = 2000

// holdingArgs is the job that judges a holding.
type holdingArgs struct {
	HoldingID int64 `json:"holding_id"`
}

// Kind implements river.JobArgs.
func (holdingArgs) Kind() string { return "holding" }

// InsertOpts implements river.JobArgsWithInsertOpts.
func (holdingArgs) InsertOpts() river.InsertOpts { return river.InsertOpts{MaxAttempts: otherAttempts} }

type holdingWorker struct {
	river.WorkerDefaults[holdingArgs]
	queue *Queue
}

// Work judges the facts that the holding has now, whichever were sent when the job was made.
func (w *holdingWorker) Work(ctx context.Context, job *river.Job[holdingArgs]) error {
	err := ignoreMissing(w.queue.judgeHolding(ctx, job.Args.HoldingID))
	if err != nil {
		w.queue.options.Log.Error("job failed", "holding", job.Args.HoldingID, "error", err)
		if job.Attempt >= job.MaxAttempts && ctx.Err() == nil {
			return w.queue.store.FailHolding(ctx, job.Args.HoldingID, err.Error())
		}
	}
	return err
}

// TakeHolding stores what was delivered of a holding, in the transaction, and has it judged.
func (q *Queue) TakeHolding(ctx context.Context, tx *store.Tx, h *store.Holding, d store.Delivery) error {
	h.SentAt = q.options.Now()
	if err := tx.SaveHolding(h, d); err != nil {
		return err
	}
	return q.put(ctx, tx, holdingArgs{HoldingID: h.ID})
}

// ChangeHolding sets what people set of a holding and has it judged anew.
func (q *Queue) ChangeHolding(ctx context.Context, h *store.Holding, tags string) error {
	return q.store.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.ChangeHolding(h, tags); err != nil {
			return err
		}
		return q.put(ctx, tx, holdingArgs{HoldingID: h.ID})
	})
}

// judgeHolding judges files as "nurvik audit" does on the machine itself.
func (q *Queue) judgeHolding(ctx context.Context, id int64) error {
	h, err := q.store.Holding(ctx, id)
	if err != nil {
		return err
	}
	files, err := q.store.AllHoldingFiles(ctx, id)
	if err != nil {
		return err
	}
	library, err := q.library(ctx)
	if err != nil {
		return err
	}
	now, memory := q.options.Now(), &brief.Memory{}
	engine, err := q.engine(ctx, library, assess.Options{At: now, Memory: memory})
	if err != nil {
		return err
	}
	engine.LearnFacts(nil, files)
	if judge.CountRSA(memory, files) <= maxShared {
		if err := engine.FindSharedPrimes(ctx, files, nil, nil); err != nil {
			return err
		}
	}
	expected := library.Expect(endpoint.Settings{Policy: h.Policy, Trust: h.Trust, Audiences: h.Audiences})
	files, configurations := configurationsOf(files)
	judgements, together := engine.Files(files, expected)
	if len(configurations) > 0 {
		judgements = append(judgements, engine.Configurations(configurations, files, judgements, together, expected)...)
	}
	return q.store.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.Sole("judging"); err != nil {
			return err
		}
		waivers, err := tx.Waivers()
		if err != nil {
			return err
		}
		for i := range judgements {
			judgements[i] = judge.Rewaived(judgements[i], waivers.OfHolding(h.ID), now)
		}
		if err := tx.SaveHoldingJudgement(&h, files, configurations, judgements, now); err != nil {
			return fmt.Errorf("holding %s: %w", h.Name, err)
		}
		return nil
	})
}

// configurationsOf takes the configurations of servers out of a holding's files.
func configurationsOf(all []facts.File) (files []facts.File, configurations []facts.Configuration) {
	files = make([]facts.File, 0, len(all))
	for i := range all {
		if c := all[i].Configuration; c != nil {
			configurations = append(configurations, *c)
			if len(all[i].Items)+len(all[i].Defects) == 0 {
				continue
			}
		}
		files = append(files, all[i])
	}
	return files, configurations
}
