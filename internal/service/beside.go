package service

import (
	"context"
	"errors"
	"time"

	"nurvik/internal/service/postgres"
	"nurvik/internal/service/store"
)

// reached is the database for a command beside the service.
type reached struct {
	url   string
	dial  store.Dial
	tools postgres.Tools
}

// reach opens the way to the database, with open for the private one.
func reach(ctx context.Context, c Config, open func(context.Context, postgres.Options) (*postgres.Server, error),
	do func(reached) error) (err error) {
	if c.Database != "" {
		tools, err := postgres.ToolsFor(ctx, c.Database, c.PostgresBin)
		if err != nil {
			return err
		}
		return do(reached{url: c.Database, tools: tools})
	}
	server, err := open(ctx, postgres.Options{Directory: c.Data, Binaries: c.PostgresBin, Log: c.Log,
		Unsafe: c.UnsafeDisk})
	if err != nil {
		return err
	}
	defer func() {
		stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), stopTime)
		defer cancel()
		err = errors.Join(err, server.Stop(stop))
	}()
	return do(reached{server.URL(), server.Dial, server.Tools()})
}

func (r reached) with(ctx context.Context, do func(*store.Store) error) error {
	s, err := store.Open(ctx, r.url, r.dial)
	if err != nil {
		return err
	}
	defer s.Close()
	return do(s)
}

// WithStore opens the database of the service, which may be running, and closes it after the function.
func WithStore(ctx context.Context, c Config, do func(*store.Store) error) error {
	return reach(ctx, c, postgres.Reach, func(r reached) error { return r.with(ctx, do) })
}

// WithTools gives PostgreSQL's programs for the database of the service, which may be running.
func WithTools(ctx context.Context, c Config, do func(postgres.Tools) error) error {
	return reach(ctx, c, postgres.Reach, func(r reached) error { return do(r.tools) })
}

// ErrRunning says that a process works on the database.
var ErrRunning = errors.New("a nurvikd works on this database; stop it first")

// workerTime is how long after its last beat a worker counts as alive.
const workerTime = 30 * time.Second

// Stopped gives the programs for a database on which nobody works, says whether there is nothing in it, and then opens
// it, which brings it up to date.
func Stopped(ctx context.Context, c Config, do func(t postgres.Tools, empty bool) error,
	after func(*store.Store) error) error {
	return reach(ctx, c, postgres.Start, func(r reached) error {
		empty := false
		err := r.with(ctx, func(s *store.Store) error {
			working, err := s.Working(ctx, workerTime)
			if err == nil && c.Database != "" && working {
				err = ErrRunning // of a private one the lock of its directory has told
			}
			if err == nil {
				empty, err = s.Empty(ctx)
			}
			return err
		})
		if err == nil {
			err = do(r.tools, empty)
		}
		if err != nil {
			return err
		}
		return r.with(ctx, after)
	})
}
