package jobs

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"

	"nurvik/internal/service/store"
)

// Times of a claim. A dead worker's jobs are taken after stale and one interval
// of sweeping at most, which is well below 30 seconds.
const (
	beatInterval = 3 * time.Second
	stale        = 15 * time.Second
	claimTime    = 10 * time.Second // how long a taken name is waited for
)

// ErrNameTaken says that another process works under the same instance name already.
var ErrNameTaken = errors.New("stop it, or choose another name with --instance")

// ErrClaimLost says that another process works under the same instance name.
var ErrClaimLost = errors.New("another nurvikd has taken over the instance name")

// claim is a process's right to an instance name: an advisory lock, which goes
// with its connection and so proves a death at once, and beside it a row that
// says again and again that the process lives, for a death that nobody sees,
// as of a machine without power.
type claim struct {
	pool     *pgxpool.Pool
	self     store.Worker
	instance string // as River knows it
	holder   string // of this process
	log      *slog.Logger
	mutex    sync.Mutex
	conn     *pgxpool.Conn // holds the lock; nil while the connection is lost
}

// take claims the name. The lock of a killed process goes when the server
// notices that its connection is gone, which may take a moment.
func take(ctx context.Context, pool *pgxpool.Pool, self store.Worker, log *slog.Logger) (*claim, error) {
	c := &claim{pool: pool, self: self, instance: self.Instance, holder: rand.Text(), log: log}
	for deadline := time.Now().Add(claimTime); ; {
		locked, err := c.lock(ctx)
		if err != nil {
			return nil, err
		}
		if locked {
			return c, c.write(ctx)
		}
		if time.Now().After(deadline) {
			return nil, fmt.Errorf(
				"another nurvikd of the instance name %q works on this database; %w", c.instance, ErrNameTaken)
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// lock tries to take the lock on a connection of its own.
func (c *claim) lock(ctx context.Context) (bool, error) {
	conn, err := c.pool.Acquire(ctx)
	if err != nil {
		return false, err
	}
	// A server should notice soon that the machine at the other end is gone.
	_, err = conn.Exec(ctx,
		"SET tcp_keepalives_idle = 5; SET tcp_keepalives_interval = 5; SET tcp_keepalives_count = 2")
	locked := false
	if err == nil {
		err = conn.QueryRow(ctx, "SELECT pg_try_advisory_lock($1)", store.LockKey("instance "+c.instance)).Scan(&locked)
	}
	if err != nil || !locked {
		_ = conn.Conn().Close(ctx) // rather a new connection than one with settings of its own
		conn.Release()
		return false, err
	}
	c.mutex.Lock()
	defer c.mutex.Unlock()
	c.conn = conn
	return true, nil
}

// write makes this process the holder.
func (c *claim) write(ctx context.Context) error {
	_, err := c.pool.Exec(ctx, `INSERT INTO workers (instance, holder, beat_at, kind, host, version, visits, vantage,
			through)
		VALUES ($1, $2, now(), $3, $4, $5, $6, $7, $8)
		ON CONFLICT (instance) DO UPDATE SET beat_at = excluded.beat_at, kind = excluded.kind, host = excluded.host,
			version = excluded.version, visits = excluded.visits, vantage = excluded.vantage,
			through = excluded.through, holder = excluded.holder,
			started_at = CASE workers.holder WHEN excluded.holder THEN workers.started_at ELSE now() END`,
		c.instance, c.holder, c.self.Kind, c.self.Host, c.self.Version, c.self.Visits, c.self.Vantage, c.self.Through)
	return err
}

// keep says that the process lives, and takes the claim again after a lost
// connection, until the context ends. The error is ErrClaimLost.
func (c *claim) keep(ctx context.Context) error {
	tick := time.NewTicker(beatInterval)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
		limited, cancel := context.WithTimeout(ctx, 2*beatInterval)
		err := c.beat(limited)
		cancel()
		switch {
		case errors.Is(err, ErrClaimLost):
			return fmt.Errorf("%w %q; this one stops", ErrClaimLost, c.instance)
		case err != nil && ctx.Err() == nil:
			c.log.Warn("the claim of the instance could not be renewed; trying again", "error", err)
		}
	}
}

func (c *claim) beat(ctx context.Context) error {
	c.mutex.Lock()
	conn := c.conn
	c.mutex.Unlock()
	if conn != nil {
		tag, err := conn.Exec(ctx, "UPDATE workers SET beat_at = now() WHERE instance = $1 AND holder = $2", c.instance,
			c.holder)
		switch {
		case err == nil && tag.RowsAffected() == 1:
			return nil
		case err == nil: // taken for dead, and the lock is ours still: nobody else works under this name
			c.log.Warn("this process was taken for dead, and goes on", "instance", c.instance)
			return c.write(ctx)
		case conn.Conn().IsClosed():
			c.drop(context.WithoutCancel(ctx))
		default:
			return err
		}
	}
	locked, err := c.lock(ctx)
	switch {
	case err != nil:
		return err
	case locked:
		c.log.Info("took the claim of the instance again after a lost connection", "instance", c.instance)
		return c.write(ctx)
	}
	var holder string
	if err := c.pool.QueryRow(ctx, "SELECT holder FROM workers WHERE instance = $1",
		c.instance).Scan(&holder); err != nil {
		return err
	}
	if holder != c.holder {
		return ErrClaimLost
	}
	return errors.New("the lock is not free yet") // the server has not noticed that our connection is gone
}

// drop ends the session and with it the lock.
func (c *claim) drop(ctx context.Context) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if c.conn != nil {
		_ = c.conn.Conn().Close(ctx)
		c.conn.Release()
		c.conn = nil
	}
}

// end gives the name back.
func (c *claim) end(ctx context.Context) {
	_, _ = c.pool.Exec(ctx, "DELETE FROM workers WHERE instance = $1 AND holder = $2", c.instance, c.holder)
	c.drop(ctx)
}
