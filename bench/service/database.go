package main

import (
	"context"
	"errors"
	"log/slog"
	"os"

	"nurvik/internal/service/postgres"
	"nurvik/internal/service/store"
)

// opened starts a database for one run, which goes with it.
func opened(ctx context.Context, name string, log *slog.Logger) (server *postgres.Server, s *store.Store,
	end func() error, err error) {
	directory, err := os.MkdirTemp("", "nurvik-bench-"+name+"-")
	if err != nil {
		return nil, nil, nil, err
	}
	end = func() (err error) {
		if s != nil {
			s.Close()
		}
		if server != nil {
			err = server.Stop(context.WithoutCancel(ctx))
		}
		return errors.Join(err, os.RemoveAll(directory))
	}
	if err = os.Chmod(directory, 0o711); err == nil {
		server, err = postgres.Start(ctx, postgres.Options{Directory: directory, Unsafe: true, Log: log})
	}
	if err == nil {
		s, err = store.Open(ctx, server.URL(), server.Dial)
	}
	if err != nil {
		err = errors.Join(err, end())
	}
	return server, s, end, err
}
