// Package store keeps the service's records in PostgreSQL.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"hash/fnv"
	"io/fs"
	"net"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"gorm.io/driver/postgres"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

// Schema is the name under which Alone brings tables up to date.
const Schema = "schema"

// ErrNewer says that a later version has brought the tables up to date.
var ErrNewer = errors.New("the database is that of a newer nurvikd; install that version here too")

// ErrNotFound says that a record is not there.
var ErrNotFound = errors.New("there is no such record")

// Store is the open database.
type Store struct {
	Pool  *pgxpool.Pool // for the job queue, which shares the connections
	Clock *Clock        // the database's
	db    *gorm.DB
	sql   *sql.DB
	stop  context.CancelFunc // ends the clock
}

// Dial opens the connections to the database; nil is the usual way.
type Dial func(ctx context.Context, network, address string) (net.Conn, error)

// Open connects and brings the schema up to date. The error does not repeat the URL, which holds a secret.
func Open(ctx context.Context, url string, dial Dial) (*Store, error) {
	return OpenWith(ctx, url, dial, 20)
}

// OpenWith is Open with at least so many connections at most.
func OpenWith(ctx context.Context, url string, dial Dial, connections int32) (*Store, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, errors.New("the database URL cannot be read; write postgres://USER@HOST/NAME")
	}
	if dial != nil {
		config.ConnConfig.DialFunc = pgconn.DialFunc(dial)
	}
	config.MaxConns = max(config.MaxConns, connections)
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	s := &Store{Pool: pool, sql: stdlib.OpenDBFromPool(pool)}
	if err := s.open(ctx); err != nil {
		s.Close()
		return nil, err
	}
	ctx, s.stop = context.WithCancel(context.WithoutCancel(ctx))
	go s.Clock.keep(ctx)
	return s, nil
}

// Alone runs the function while no other process on the database runs one of
// the same name.
func (s *Store) Alone(ctx context.Context, name string, do func() error) (err error) {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	key := LockKey(name)
	if _, err := conn.Exec(ctx, "SELECT pg_advisory_lock($1)", key); err != nil {
		return err
	}
	defer func() {
		_, unlock := conn.Exec(context.WithoutCancel(ctx), "SELECT pg_advisory_unlock($1)", key)
		err = errors.Join(err, unlock)
	}()
	return do()
}

// LockKey is the number of the advisory lock of a name.
func LockKey(name string) int64 {
	h := fnv.New64a()
	_, _ = h.Write([]byte("nurvik " + name)) // a hash never fails
	return int64(h.Sum64())
}

//go:embed migrations/*.sql
var migrations embed.FS

func (s *Store) open(ctx context.Context) error {
	if err := s.sql.PingContext(ctx); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectPostgres, s.sql, files)
	if err != nil {
		return err
	}
	err = s.Alone(ctx, Schema, func() error {
		there, err := provider.GetDBVersion(ctx)
		if err != nil {
			return err
		}
		if known := provider.ListSources(); there > known[len(known)-1].Version {
			return fmt.Errorf("%w (its number is %d, and this one knows %d)", ErrNewer, there,
				known[len(known)-1].Version)
		}
		_, err = provider.Up(ctx)
		return err
	})
	if err != nil {
		return fmt.Errorf("database schema: %w", err)
	}
	if s.Clock, err = newClock(ctx, s.Pool); err != nil {
		return fmt.Errorf("database time: %w", err)
	}
	s.db, err = gorm.Open(postgres.New(postgres.Config{Conn: s.sql}), &gorm.Config{
		Logger:         logger.Discard, // errors are returned, and statements may hold what must not be logged
		TranslateError: true,
	})
	return err
}

// Close closes every connection.
func (s *Store) Close() {
	if s.stop != nil {
		s.stop()
	}
	_ = s.sql.Close()
	s.Pool.Close()
}

// Ping reports whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return s.sql.PingContext(ctx) }

// read is a session without a transaction of its own.
func (s *Store) read(ctx context.Context) *gorm.DB { return s.db.WithContext(ctx) }

// Tx is a transaction.
type Tx struct{ db *gorm.DB }

// SQL is the transaction beneath, into which the job queue inserts.
func (t *Tx) SQL() (*sql.Tx, error) {
	tx, ok := t.db.Statement.ConnPool.(*sql.Tx)
	if !ok {
		return nil, errors.New("store: not inside a transaction")
	}
	return tx, nil
}

func notFound(err error) error {
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return ErrNotFound
	}
	return err
}

// Sole makes transactions that write many records in an order of their own wait
// for each other, until the end of the transaction.
func (t *Tx) Sole(name string) error {
	return t.db.Exec("SELECT pg_advisory_xact_lock(?)", LockKey(name)).Error
}

// ServerVersion is the version of the database server, such as 15.18.
func (s *Store) ServerVersion(ctx context.Context) (version string, err error) {
	return version, s.read(ctx).Raw("SHOW server_version").Scan(&version).Error
}
