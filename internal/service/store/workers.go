package store

import (
	"context"
	"time"
)

// Worker is a process that works on this database.
type Worker struct {
	Instance  string // as the job queue knows it
	Kind      string // serve or work
	Vantage   string // from where it visits, besides or instead of where the service is
	Host      string
	Through   string // the instance whose API it uses, where it does not reach the database itself
	Version   string
	Visits    int // at once, at most
	StartedAt time.Time
	BeatAt    time.Time // when it said last that it lives
	Running   int       // visits that are under way
}

// Workers returns the processes that live, by their names.
func (s *Store) Workers(ctx context.Context) ([]Worker, error) {
	var out []Worker
	return out, s.read(ctx).Raw(`SELECT w.*, (SELECT count(*) FROM river_job j WHERE j.state = 'running'
			AND j.kind = 'visit' AND j.attempted_by[array_upper(j.attempted_by, 1)] = w.instance) AS running
		FROM workers w ORDER BY instance`).Scan(&out).Error
}

// restBetween is how long a host has peace between the turns of two processes: neither knows when the other one
// connected last.
const restBetween = "1 second"

// TakeLane takes the turn at a host for so long, or keeps it, and reports whether it was to be had. Where it was not,
// rest is how long it is at most until it may be; it is long where another process has the turn.
func (s *Store) TakeLane(ctx context.Context, host, holder string, lasts time.Duration) (ours bool, rest time.Duration,
	err error) {
	tag, err := s.Pool.Exec(ctx, `INSERT INTO lanes (host, holder, until)
		VALUES ($1, $2, now() + make_interval(secs => $3))
		ON CONFLICT (host) DO UPDATE SET holder = excluded.holder, until = excluded.until
		WHERE lanes.holder = excluded.holder OR lanes.until < now()`, host, holder, lasts.Seconds())
	if err != nil || tag.RowsAffected() > 0 {
		return err == nil, 0, err
	}
	var seconds float64
	err = s.Pool.QueryRow(ctx, `SELECT coalesce((SELECT greatest(extract(epoch FROM until - clock_timestamp()), 0)
		FROM lanes WHERE host = $1), 0)`, host).Scan(&seconds)
	return false, time.Duration(seconds * float64(time.Second)), err
}

// LeaveLane ends the turn at a host. For the same process it goes on; others let the host rest.
func (s *Store) LeaveLane(ctx context.Context, host, holder string) error {
	_, err := s.Pool.Exec(ctx, `UPDATE lanes SET until = now() + interval '`+restBetween+`'
		WHERE host = $1 AND holder = $2`, host, holder)
	return err
}

// WakeVisits has visits that were put off because their host was busy tried again: those of the queue, as many as are
// wanted, those that somebody waits for first.
func (s *Store) WakeVisits(ctx context.Context, queue, host string, most int) error {
	tag, err := s.Pool.Exec(ctx, `UPDATE river_job SET state = 'available', scheduled_at = now() WHERE id IN (
		SELECT id FROM river_job WHERE kind = 'visit' AND state = 'scheduled' AND args ->> 'host' = $1 AND queue = $2
			AND metadata ? 'snoozes' ORDER BY priority, id LIMIT $3 FOR UPDATE SKIP LOCKED)`, host, queue, most)
	if err != nil || tag.RowsAffected() == 0 {
		return err
	}
	// As the queue tells its workers of new jobs. Without it they look once a second.
	_, err = s.Pool.Exec(ctx, `SELECT pg_notify(current_schema() || '.river_insert',
		json_build_object('queue', $1::text)::text)`, queue)
	return err
}

// ForgetLanes removes turns that were over a while ago.
func (s *Store) ForgetLanes(ctx context.Context) error {
	_, err := s.Pool.Exec(ctx, "DELETE FROM lanes WHERE until < now() - interval '1 minute'")
	return err
}
