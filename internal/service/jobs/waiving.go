package jobs

import (
	"context"
	"errors"
	"slices"

	"nurvik/internal/service/store"
)

// waiveBatch is how many endpoints one transaction brings up to date.
const waiveBatch = 50

// Waive brings everything that bears a finding of the code up to date with the waivers: endpoints at once, and holdings
// by a job each. Nothing is visited.
func (q *Queue) Waive(ctx context.Context, code string) error {
	waivers, err := q.store.Waivers(ctx)
	if err != nil {
		return err
	}
	endpoints, holdings, err := q.store.Bearers(ctx, code)
	if err != nil {
		return err
	}
	now := q.options.Now()
	for batch := range slices.Chunk(endpoints, waiveBatch) {
		err := q.store.Tx(ctx, func(tx *store.Tx) error {
			if err := tx.Sole("judging"); err != nil {
				return err
			}
			for _, id := range batch {
				e, err := q.store.Endpoint(ctx, id)
				if err == nil {
					err = tx.Rewaive(id, waivers.OfEndpoint(e), now)
				}
				if err != nil && !errors.Is(err, store.ErrNotFound) { // it was removed meanwhile
					return err
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return q.store.Tx(ctx, func(tx *store.Tx) error {
		for _, id := range holdings {
			if err := q.put(ctx, tx, holdingArgs{HoldingID: id}); err != nil {
				return err
			}
		}
		return nil
	})
}

// endWaivers makes findings count again whose waiver has ended.
func (q *Queue) endWaivers(ctx context.Context) error {
	ended, err := q.store.EndWaivers(ctx, q.options.Now())
	if err != nil {
		return err
	}
	var codes []string
	for _, w := range ended {
		q.options.Log.Info("a waiver has ended", "waiver", w.ID, "code", w.Code)
		codes = append(codes, w.Code)
	}
	slices.Sort(codes)
	for _, code := range slices.Compact(codes) {
		if err := q.Waive(ctx, code); err != nil {
			return err
		}
	}
	return nil
}
