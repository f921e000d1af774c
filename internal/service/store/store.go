// Package store keeps the service's records in PostgreSQL.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"

	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"gorm.io/driver/postgres"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

// ErrNotFound says that a record is not there.
var ErrNotFound = errors.New("there is no such record")

// Store is the open database.
type Store struct {
	Pool *pgxpool.Pool // for the job queue, which shares the connections
	db   *gorm.DB
	sql  *sql.DB
}

// Open connects and brings the schema up to date. The error does not repeat the URL, which holds a secret.
func Open(ctx context.Context, url string) (*Store, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, errors.New("the database URL cannot be read; write postgres://USER@HOST/NAME")
	}
	config.MaxConns = max(config.MaxConns, 20)
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	s := &Store{Pool: pool, sql: stdlib.OpenDBFromPool(pool)}
	if err := s.open(ctx); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
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
	if _, err := provider.Up(ctx); err != nil {
		return fmt.Errorf("database schema: %w", err)
	}
	s.db, err = gorm.Open(postgres.New(postgres.Config{Conn: s.sql}), &gorm.Config{
		Logger:         logger.Discard, // errors are returned, and statements may hold what must not be logged
		TranslateError: true,
	})
	return err
}

// Close closes every connection.
func (s *Store) Close() {
	_ = s.sql.Close()
	s.Pool.Close()
}

// Ping reports whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return s.sql.PingContext(ctx) }

// Tx runs the function in one transaction; an error undoes all of it.
func (s *Store) Tx(ctx context.Context, do func(tx *Tx) error) error {
	return s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error { return do(&Tx{db}) })
}

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
