package store

import (
	"context"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
)

// Clock tells the database's time, so that all processes on one database have
// the same, whatever their own clocks say. Between two looks at the database it
// goes on with the process's monotonic clock: a step of the machine's own clock
// changes nothing.
type Clock struct {
	base   time.Time    // of this process; with its monotonic reading
	offset atomic.Int64 // nanoseconds that the database was ahead of base
	pool   *pgxpool.Pool
}

// lookInterval is how often the clock looks at the database.
const lookInterval = 5 * time.Second

func newClock(ctx context.Context, pool *pgxpool.Pool) (*Clock, error) {
	c := &Clock{base: time.Now(), pool: pool}
	return c, c.look(ctx)
}

func (c *Clock) look(ctx context.Context) error {
	var theirs time.Time
	begin := time.Since(c.base)
	if err := c.pool.QueryRow(ctx, "SELECT clock_timestamp()").Scan(&theirs); err != nil {
		return err
	}
	middle := (begin + time.Since(c.base)) / 2
	c.offset.Store(int64(theirs.Sub(c.base.Add(middle))))
	return nil
}

// keep looks at the database again and again until the context ends.
func (c *Clock) keep(ctx context.Context) {
	tick := time.NewTicker(lookInterval)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			_ = c.look(ctx) // a database that does not answer is noticed elsewhere; the clock goes on
		}
	}
}

// Now is the database's time, with a monotonic reading for measuring durations.
func (c *Clock) Now() time.Time {
	return c.base.Add(time.Since(c.base) + time.Duration(c.offset.Load()))
}

// NowOrNil says that the database shall take its own time. It makes the clock
// one that the job queue takes.
func (c *Clock) NowOrNil() *time.Time { return nil }

// Stamp is the database's time in the precision that it keeps.
func (c *Clock) Stamp() time.Time { return c.Now().UTC().Truncate(time.Microsecond) }
