package store

import (
	"context"
	"strconv"
)

// progressChannel is where transactions say which audit has come further (PostgreSQL documentation, NOTIFY).
const progressChannel = "nurvik_audit"

// tell says, when the transaction is committed, that the audit has come further.
func (t *Tx) tell(audit int64) error {
	return t.db.Exec("SELECT pg_notify(?, ?)", progressChannel, strconv.FormatInt(audit, 10)).Error
}

// ListenProgress calls each with the number of every audit that comes further, until the context ends or the connection
// is lost. It calls ready once it listens.
func (s *Store) ListenProgress(ctx context.Context, ready func(), each func(audit int64)) error {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	// Rather a new connection than one that goes on listening.
	defer func() {
		_ = conn.Conn().Close(context.WithoutCancel(ctx))
		conn.Release()
	}()
	if _, err := conn.Exec(ctx, "LISTEN "+progressChannel); err != nil {
		return err
	}
	ready()
	for {
		news, err := conn.Conn().WaitForNotification(ctx)
		if err != nil {
			return err
		}
		if audit, err := strconv.ParseInt(news.Payload, 10, 64); err == nil {
			each(audit)
		}
	}
}
