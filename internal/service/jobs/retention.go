package jobs

import (
	"context"
	"time"
)

// removalInterval is how often old records are removed.
const removalInterval = time.Hour

// removeOld removes records that are older than is wanted, until the context ends. Several processes may do so at once.
func (q *Queue) removeOld(ctx context.Context) {
	if q.options.Keep <= 0 {
		return
	}
	tick := time.NewTicker(removalInterval)
	defer tick.Stop()
	for {
		if err := q.RemoveOld(ctx); err != nil && ctx.Err() == nil {
			q.options.Log.Warn("removing old records failed; trying again in an hour", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// RemoveOld removes what is older than is wanted now.
func (q *Queue) RemoveOld(ctx context.Context) error {
	removed, err := q.store.RemoveBefore(ctx, q.options.Now().Add(-q.options.Keep))
	for _, r := range removed {
		q.options.Log.Info("removed old records", "what", r.What, "records", r.Records)
	}
	return err
}
