package jobs

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"hash/fnv"
	"log/slog"
	"os"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverdatabasesql"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"

	"nurvik/core/facts"
	"nurvik/core/limits"
	"nurvik/core/probe"
	"nurvik/internal/inquiry"
	"nurvik/internal/service/store"
)

// visitQueue holds visits, so that a long plan never keeps them waiting.
const visitQueue = "visits"

// Options say how jobs are run.
type Options struct {
	Instance string // name of this process among those on the same database; default the host's
	Visits   int    // visits under way at once; default 50
	Network  probe.Network
	Limits   limits.Limits
	Effort   facts.Effort  // of each visit; "" for normal
	Desk     *inquiry.Desk // asks the issuers; nil asks nothing
	Log      *slog.Logger
	Metrics  *Metrics
	Now      func() time.Time
}

// Queue inserts and works jobs.
type Queue struct {
	options Options
	store   *store.Store
	prober  *probe.Prober
	worker  *river.Client[pgx.Tx]
	insert  *river.Client[*sql.Tx]
	claim   *pgxpool.Conn // holds the instance's name until the process ends
}

// Open brings the queue's tables up to date and makes the clients. Nothing is
// worked before Start.
func Open(ctx context.Context, s *store.Store, o Options) (*Queue, error) {
	if o.Instance == "" {
		host, err := os.Hostname()
		if err != nil {
			return nil, err
		}
		o.Instance = host
	}
	if o.Visits <= 0 {
		o.Visits = 50
	}
	q := &Queue{options: o, store: s, prober: probe.New(o.Network, o.Limits)}
	migrator, err := rivermigrate.New(riverpgxv5.New(s.Pool), &rivermigrate.Config{Logger: quiet(o.Log)})
	if err != nil {
		return nil, err
	}
	if _, err := migrator.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return nil, fmt.Errorf("job queue schema: %w", err)
	}
	if q.insert, err = river.NewClient(riverdatabasesql.New(stdlib.OpenDBFromPool(s.Pool)),
		&river.Config{Logger: quiet(o.Log)}); err != nil {
		return nil, err
	}
	workers := river.NewWorkers()
	river.AddWorker(workers, &planWorker{queue: q})
	river.AddWorker(workers, &visitWorker{queue: q})
	river.AddWorker(workers, &judgeWorker{queue: q})
	river.AddWorker(workers, &holdingWorker{queue: q})
	river.AddWorker(workers, &whatIfWorker{queue: q})
	q.worker, err = river.NewClient(riverpgxv5.New(s.Pool), &river.Config{
		ID:      q.id(),
		Workers: workers,
		Queues: map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: 4},
			visitQueue: {MaxWorkers: o.Visits}},
		JobTimeout:           longest,
		RescueStuckJobsAfter: longest + time.Minute, // just above the longest job, since the queue has no leases
		Logger:               quiet(o.Log),
	})
	return q, err
}

// longest is the time limit of planning and judging; a visit has its own.
const longest = 10 * time.Minute

// quiet keeps the queue's own routine messages out of the log.
func quiet(log *slog.Logger) *slog.Logger {
	return slog.New(levelled{log.Handler()})
}

type levelled struct{ slog.Handler }

func (l levelled) Enabled(ctx context.Context, level slog.Level) bool {
	return level >= slog.LevelWarn && l.Handler.Enabled(ctx, level)
}

func (q *Queue) id() string { return "nurvikd-" + q.options.Instance }

// Start claims the instance's name, returns the jobs of a predecessor that was
// killed, and works.
func (q *Queue) Start(ctx context.Context) error {
	if err := q.claimName(ctx); err != nil {
		return err
	}
	// The claim proves that no process of this name lives, so whatever it had begun is free.
	tag, err := q.store.Pool.Exec(ctx, `UPDATE river_job SET state = 'available', scheduled_at = now()
		WHERE state = 'running' AND attempted_by[array_upper(attempted_by, 1)] = $1`, q.id())
	if err != nil {
		return fmt.Errorf("return the jobs of the predecessor: %w", err)
	}
	if n := tag.RowsAffected(); n > 0 {
		q.options.Log.Info("went on with the jobs of a predecessor that was killed", "jobs", n)
	}
	return q.worker.Start(ctx)
}

func (q *Queue) claimName(ctx context.Context) error {
	h := fnv.New64a()
	_, _ = h.Write([]byte(q.id())) // a hash never fails
	conn, err := q.store.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	// The lock of a killed process goes when the server notices that its connection is gone, which may take a moment.
	for deadline := time.Now().Add(10 * time.Second); ; {
		var claimed bool
		if err := conn.QueryRow(ctx, "SELECT pg_try_advisory_lock($1)", int64(h.Sum64())).Scan(&claimed); err != nil {
			conn.Release()
			return err
		}
		if claimed {
			q.claim = conn
			return nil
		}
		if time.Now().After(deadline) {
			conn.Release()
			return fmt.Errorf("another nurvikd of the instance name %q works on this database; stop it, or choose "+
				"another name with --instance", q.options.Instance)
		}
		select {
		case <-ctx.Done():
			conn.Release()
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// Stop lets running jobs end for a moment, then cuts them off; they go on at the next start.
func (q *Queue) Stop(ctx context.Context) error {
	soft, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	err := q.worker.Stop(soft)
	if errors.Is(err, context.DeadlineExceeded) {
		err = q.worker.StopAndCancel(ctx)
	}
	if q.claim != nil {
		_ = q.claim.Conn().Close(ctx) // ends the session and with it the claim
		q.claim.Release()
	}
	return err
}
