package store

import (
	"context"
	"crypto/sha256"
	"errors"
	"log/slog"
	"time"

	"github.com/jackc/pgx/v5"
)

// Shelf keeps what issuers said. It implements chain.Shelf.
type Shelf struct {
	store *Store
	log   *slog.Logger
}

// Shelf returns the one of the database.
func (s *Store) Shelf(log *slog.Logger) *Shelf { return &Shelf{s, log} }

// Load implements chain.Shelf.
func (s *Shelf) Load(ctx context.Context, key string) (data []byte, until time.Time) {
	sum := sha256.Sum256([]byte(key))
	err := s.store.Pool.QueryRow(ctx, "SELECT data, ends_at FROM answers WHERE key = $1", sum[:]).Scan(&data, &until)
	if err != nil && !errors.Is(err, pgx.ErrNoRows) && ctx.Err() == nil {
		s.log.Warn("what an issuer said before could not be read; it is asked again", "error", err)
	}
	return data, until
}

// Save implements chain.Shelf. What has ended goes on the way.
func (s *Shelf) Save(ctx context.Context, key string, data []byte, until time.Time) {
	sum := sha256.Sum256([]byte(key))
	_, err := s.store.Pool.Exec(ctx, `INSERT INTO answers VALUES ($1, $2, $3)
		ON CONFLICT (key) DO UPDATE SET data = excluded.data, ends_at = excluded.ends_at`, sum[:], data, until)
	if err == nil {
		_, err = s.store.Pool.Exec(ctx, `DELETE FROM answers WHERE key IN (SELECT key FROM answers WHERE ends_at < $1
			LIMIT 100 FOR UPDATE SKIP LOCKED)`, s.store.Clock.Stamp())
	}
	if err != nil && ctx.Err() == nil {
		s.log.Warn("what an issuer said could not be kept; it is asked again after a restart", "error", err)
	}
}
