package jobs

import (
	"context"
	"errors"
	"fmt"

	"github.com/riverqueue/river"

	"nurvik/internal/service/store"
)

// ErrNoEndpoints says that there is nothing to audit.
var ErrNoEndpoints = errors.New("no endpoint to audit: the estate is empty, or none of those named is in it")

// Begin inserts the audit and its first job in one transaction.
func (q *Queue) Begin(ctx context.Context, a *store.Audit, of store.Selection) error {
	a.State, a.CreatedAt = store.Planning, q.options.Now()
	return q.store.Tx(ctx, func(tx *store.Tx) error {
		count, err := tx.CreateAudit(a, of)
		if err != nil {
			return err
		}
		if count == 0 {
			return ErrNoEndpoints
		}
		return q.put(ctx, tx, planArgs{AuditID: a.ID})
	})
}

// put inserts jobs into the transaction.
func (q *Queue) put(ctx context.Context, tx *store.Tx, list ...river.JobArgs) error {
	if len(list) == 0 {
		return nil
	}
	raw, err := tx.SQL()
	if err != nil {
		return err
	}
	params := make([]river.InsertManyParams, len(list))
	for i, args := range list {
		params[i] = river.InsertManyParams{Args: args}
	}
	if _, err := q.insert.InsertManyTx(ctx, raw, params); err != nil {
		return fmt.Errorf("insert jobs: %w", err)
	}
	return nil
}

// Cancel ends the audit; visits that are under way are cut off. It reports
// whether the audit was still running.
func (q *Queue) Cancel(ctx context.Context, audit int64) (bool, error) {
	running := false
	err := q.store.Tx(ctx, func(tx *store.Tx) (err error) {
		running, err = tx.Move(audit, store.Cancelled, q.options.Now(), store.Planning, store.Visiting, store.Judging)
		if err != nil || !running {
			return err
		}
		if err := tx.CancelVisits(audit); err != nil {
			return err
		}
		return q.put(ctx, tx, closeArgs{AuditID: audit, At: q.options.Now()}) // what was judged until now stands
	})
	if err != nil || !running {
		return running, err
	}
	// The rows say that nothing more is wanted; jobs that have begun are told as well.
	jobs, err := q.store.Pool.Query(ctx,
		`SELECT id FROM river_job WHERE state = 'running' AND kind <> 'close'
			AND (args->>'audit_id')::bigint = $1`, audit)
	if err != nil {
		return true, err
	}
	var ids []int64
	for jobs.Next() {
		var id int64
		if err := jobs.Scan(&id); err != nil {
			return true, err
		}
		ids = append(ids, id)
	}
	for _, id := range ids {
		if _, err := q.worker.JobCancel(ctx, id); err != nil && !errors.Is(err, river.ErrNotFound) {
			return true, err
		}
	}
	return true, jobs.Err()
}
