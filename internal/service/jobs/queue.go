package jobs

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverdatabasesql"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
	"github.com/riverqueue/river/rivertype"

	"nurvik/core/facts"
	"nurvik/core/limits"
	"nurvik/core/probe"
	"nurvik/core/proposal"
	"nurvik/core/rescue"
	"nurvik/internal/inquiry"
	"nurvik/internal/outbound"
	"nurvik/internal/service/store"
	"nurvik/internal/version"
)

// Visits and judgements have queues of their own, so that a long plan, or issuers that answer slowly, keep nobody
// waiting.
const (
	visitQueue = "visits"
	judgeQueue = "judgements"
)

// Options say how jobs are run.
type Options struct {
	Instance string // name of this process among those on the same database; default the host's
	Kind     string // of this process: serve, the default, or work
	Host     string // that it works on; default this one
	Version  string // of it; default this one
	Through  string // the instance whose API a worker elsewhere uses; "" for a process on the database itself
	Vantage  string // from where it visits: serve besides its own place, work instead of it; "" for none
	Visits   int    // visits under way at once; default 50
	Network  probe.Network
	Gate     *outbound.Gate // of visits; nil lets through everything
	// Networks that this process may search for endpoints, with the ports; none by default.
	Searchable proposal.Ranges
	Limits     limits.Limits
	Effort     facts.Effort  // of each visit; "" for the usual
	Plan       Plan          // finds addresses in the place of this process; nil looks up names here
	Visit      Visit         // makes visits in the place of this process; nil visits from here
	Desk       *inquiry.Desk // asks the issuers; nil asks nothing
	Log        *slog.Logger
	Metrics    *Metrics
	Now        func() time.Time
	Keep       time.Duration // how long old records are kept; 0 for ever
	Drain      time.Duration // how long jobs that are under way may take to end at a stop; default 3 s
	Absent     time.Duration // after which nobody waits for a vantage at which nobody works; default 2 minutes
	Turn       time.Duration // of a job that goes on with one portion after another; default 5 minutes
	Report     rescue.Report // takes defects of ours to the log
}

// Plan finds the addresses of a target, as probe.Prober.Plan does, or ends with ErrAway or ErrNotTaken.
type Plan func(ctx context.Context, t probe.Target) (probe.Plan, error)

// Visit makes one visit, as probe.Prober.Visit does, or ends with ErrAway or ErrNotTaken.
type Visit func(ctx context.Context, at netip.AddrPort, call probe.Call) (facts.Observation, error)

// Queue inserts and works jobs.
type Queue struct {
	options Options
	store   *store.Store
	prober  *probe.Prober
	worker  *river.Client[pgx.Tx]
	insert  *river.Client[*sql.Tx]
	claim   *claim // holds the instance's name until the process ends
	lanes   *lanes // turns at hosts

	keeping     sync.WaitGroup // of the claim, and of the sweeps
	stopKeeping context.CancelFunc
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
	if o.Absent <= 0 {
		o.Absent = 2 * time.Minute
	}
	if o.Turn <= 0 {
		o.Turn = turn
	}
	if o.Kind == "" {
		o.Kind = "serve"
	}
	if o.Drain <= 0 {
		o.Drain = 3 * time.Second
	}
	q := &Queue{options: o, store: s, prober: probe.New(o.Network, o.Limits)}
	if q.options.Visit == nil {
		q.options.Visit = q.prober.Visit
	}
	if q.options.Plan == nil {
		q.options.Plan = q.prober.Plan
	}
	q.lanes = newLanes(s, q.id(), o.Limits.Longest())
	// River takes the database's time instead of this machine's. It has the setting for tests; it is what makes workers
	// with clocks an hour apart agree on what is due.
	timing := river.TestConfig{Time: s.Clock}
	migrator, err := rivermigrate.New(riverpgxv5.New(s.Pool), &rivermigrate.Config{Logger: quiet(o.Log)})
	if err != nil {
		return nil, err
	}
	err = s.Alone(ctx, store.Schema, func() error {
		if _, err := migrator.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
			return err
		}
		_, err := s.Pool.Exec(ctx, `CREATE INDEX IF NOT EXISTS river_job_at_host ON river_job ((args ->> 'host'), priority, id)
			WHERE kind = 'visit' AND state = 'scheduled'`)
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("job queue schema: %w", err)
	}
	if q.insert, err = river.NewClient(riverdatabasesql.New(stdlib.OpenDBFromPool(s.Pool)),
		&river.Config{Logger: quiet(o.Log), Test: timing}); err != nil {
		return nil, err
	}
	workers := river.NewWorkers()
	river.AddWorker(workers, &planWorker{queue: q})
	river.AddWorker(workers, &visitWorker{queue: q})
	river.AddWorker(workers, &judgeWorker{queue: q})
	river.AddWorker(workers, &closeWorker{queue: q})
	river.AddWorker(workers, &holdingWorker{queue: q})
	river.AddWorker(workers, &whatIfWorker{queue: q})
	river.AddWorker(workers, newSearchWorker(q))
	q.worker, err = river.NewClient(riverpgxv5.New(s.Pool), &river.Config{
		ID:          q.id(),
		Workers:     workers,
		Queues:      o.queues(),
		JobTimeout:  longest,
		RetryPolicy: retries{s.Clock},
		// Jobs of dead workers are taken by sweeping. The queue's own way looks at this machine's clock, which may be
		// hours off.
		RescueStuckJobsAfter: 24 * time.Hour,
		Logger:               quiet(o.Log),
		Test:                 timing,
	})
	return q, err
}

// queues are those that the process takes jobs from. Who works at a vantage alone does nothing else: it may be where
// nothing but the database and its neighbours can be reached.
func (o Options) queues() map[string]river.QueueConfig {
	out := map[string]river.QueueConfig{}
	if o.Vantage != "" {
		out[queueOf(o.Vantage)] = river.QueueConfig{MaxWorkers: o.Visits}
	}
	if o.Vantage == "" || o.Kind != "work" {
		out[river.QueueDefault], out[judgeQueue] = river.QueueConfig{MaxWorkers: 4}, river.QueueConfig{MaxWorkers: 4}
		out[visitQueue] = river.QueueConfig{MaxWorkers: o.Visits}
	}
	if len(o.Searchable) > 0 && o.Kind != "work" {
		out[searchQueue] = river.QueueConfig{MaxWorkers: 1}
	}
	return out
}

// queueOf is the queue of the visits from a vantage.
func queueOf(vantage string) string {
	if vantage == "" {
		return visitQueue
	}
	return visitQueue + "-" + vantage
}

// longest is the time limit of planning and judging; a visit has its own. The
// issuers are asked for half of it at most.
const longest = 2 * inquiry.MostTime

// turn is how long a job goes on with one portion after another; then it puts itself on the queue again, so that others
// have their turn too and none meets its time limit.
const turn = 5 * time.Minute

// over reports whether a job has had its turn; then it has put itself on the queue again.
func (q *Queue) over(ctx context.Context, started time.Time, args river.JobArgs) (bool, error) {
	if time.Since(started) < q.options.Turn {
		return false, nil
	}
	return true, q.store.Tx(ctx, func(tx *store.Tx) error { return q.put(ctx, tx, args) })
}

// Attempts after which a job is given up. What it was about is told as failed,
// and everything else goes on.
const (
	visitAttempts = 5
	otherAttempts = 4
)

// retries puts a failed job off for a few seconds, by the database's time.
type retries struct{ clock *store.Clock }

// NextRetry implements river.ClientRetryPolicy.
func (r retries) NextRetry(job *rivertype.JobRow) time.Time {
	return r.clock.Now().Add(time.Second << min(job.Attempt, 4))
}

// quiet keeps the queue's own routine messages out of the log.
func quiet(log *slog.Logger) *slog.Logger {
	return slog.New(levelled{log.Handler()})
}

type levelled struct{ slog.Handler }

func (l levelled) Enabled(ctx context.Context, level slog.Level) bool {
	return level >= slog.LevelWarn && l.Handler.Enabled(ctx, level)
}

func (q *Queue) id() string { return "nurvikd-" + q.options.Instance }

// self is what this process says of itself.
func (q *Queue) self() store.Worker {
	host, _ := os.Hostname() // without one it is told without
	return store.Worker{Instance: q.id(), Kind: q.options.Kind, Vantage: q.options.Vantage,
		Host: cmp.Or(q.options.Host, host), Version: cmp.Or(q.options.Version, version.Number),
		Visits: q.options.Visits, Through: q.options.Through}
}

// Start claims the instance's name, returns the jobs of a predecessor that was
// killed, and works. Lost is told when another process has taken over the name;
// then this one must stop.
func (q *Queue) Start(ctx context.Context, lost func(error)) (err error) {
	if q.claim, err = take(ctx, q.store.Pool, q.self(), q.options.Log); err != nil {
		return err
	}
	// The claim proves that no process of this name lives, so whatever it had begun is free.
	tag, err := q.store.Pool.Exec(ctx, `UPDATE river_job SET state = 'available', scheduled_at = now()
		WHERE state = 'running' AND attempted_by[array_upper(attempted_by, 1)] = $1`, q.id())
	if err != nil {
		q.claim.end(ctx)
		return fmt.Errorf("return the jobs of the predecessor: %w", err)
	}
	if n := tag.RowsAffected(); n > 0 {
		q.options.Log.Info("went on with the jobs of a predecessor that was killed", "jobs", n)
	}
	keeping, stop := context.WithCancel(ctx)
	q.stopKeeping = stop
	q.keeping.Go(func() {
		if err := q.claim.keep(keeping); err != nil {
			lost(err)
		}
	})
	q.keeping.Go(func() { q.sweep(keeping) })
	q.keeping.Go(func() { q.removeOld(keeping) })
	return q.worker.Start(ctx)
}

// Stop lets running jobs end for a moment, then cuts them off; they go on at the next start.
func (q *Queue) Stop(ctx context.Context) error {
	soft, cancel := context.WithTimeout(ctx, q.options.Drain)
	defer cancel()
	err := q.worker.Stop(soft)
	if errors.Is(err, context.DeadlineExceeded) {
		err = q.worker.StopAndCancel(ctx)
	}
	if q.stopKeeping != nil {
		q.stopKeeping()
		q.keeping.Wait()
	}
	if q.claim != nil {
		q.claim.end(ctx)
	}
	return err
}
