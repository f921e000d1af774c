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

// TakeLane takes the turn at a host for so long, or keeps it, and reports whether it was to be had.
func (s *Store) TakeLane(ctx context.Context, host, holder string, lasts time.Duration) (bool, error) {
	tag, err := s.Pool.Exec(ctx, `INSERT INTO lanes (host, holder, until)
		VALUES ($1, $2, now() + make_interval(secs => $3))
		ON CONFLICT (host) DO UPDATE SET holder = excluded.holder, until = excluded.until
		WHERE lanes.holder = excluded.holder OR lanes.until < now()`, host, holder, lasts.Seconds())
	return tag.RowsAffected() > 0, err
}

// LeaveLane ends the turn at a host.
func (s *Store) LeaveLane(ctx context.Context, host, holder string) error {
	_, err := s.Pool.Exec(ctx, `UPDATE lanes SET holder = '', until = now() + interval '`+restBetween+`'
		WHERE host = $1 AND holder = $2`, host, holder)
	return err
}

// ForgetLanes removes turns that were over a while ago.
func (s *Store) ForgetLanes(ctx context.Context) error {
	_, err := s.Pool.Exec(ctx, "DELETE FROM lanes WHERE until < now() - interval '1 minute'")
	return err
}
