package store

import (
	"context"
	"database/sql/driver"
	"encoding/json"
	"errors"
	"io"
	"math/rand/v2"
	"net"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"gorm.io/gorm"
)

// ErrConflict says that somebody else has changed the same records at the same time.
var ErrConflict = errors.New("somebody else has changed this at the same time; look at it again and repeat the change")

// Limits of trying a write again.
const (
	mostTries = 8 // after deadlocks and failures of serialisation, which pass
	fewTries  = 3 // after a reference that is gone, which a fresh look finds gone too
)

// write runs statements that write, each a transaction of its own.
func (s *Store) write(ctx context.Context, do func(db *gorm.DB) error) error {
	return again(ctx, func() error { return do(s.db.WithContext(ctx)) })
}

// Tx runs the function in one transaction; an error undoes all of it. Where the
// database ends it because of what others do at the same time, the function runs
// again from the start.
func (s *Store) Tx(ctx context.Context, do func(tx *Tx) error) error {
	return again(ctx, func() error {
		err := s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error { return do(&Tx{db}) })
		// Others have added or removed a record after it was looked for.
		if errors.Is(err, gorm.ErrDuplicatedKey) || errors.Is(err, gorm.ErrRecordNotFound) {
			return &racedError{err}
		}
		return err
	})
}

// racedError says that a transaction met what others did since it began.
type racedError struct{ error }

func (e *racedError) Unwrap() error { return e.error }

// Part runs the function so that an error undoes what it did and nothing else
// of the transaction.
func (t *Tx) Part(do func(tx *Tx) error) error {
	return t.db.Transaction(func(db *gorm.DB) error { return do(&Tx{db}) })
}

func again(ctx context.Context, do func() error) error {
	for try := 1; ; try++ {
		err := do()
		var raced *racedError
		passing, reference := isPassing(err), IsMissing(err) || errors.As(err, &raced)
		switch {
		case !passing && !reference:
			return err
		case passing && try == mostTries:
			return errors.Join(ErrConflict, err)
		case raced != nil && try == mostTries:
			return errors.Join(ErrConflict, err)
		case raced == nil && reference && try == fewTries:
			return err
		}
		pause := time.Duration(1+rand.Int64N(10<<min(try, 5))) * time.Millisecond
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
	}
}

// code is PostgreSQL's error code (PostgreSQL documentation, appendix A).
func code(err error) string {
	var refused *pgconn.PgError
	if errors.As(err, &refused) {
		return refused.Code
	}
	return ""
}

// isPassing reports a deadlock, a failure of serialisation, or a lock that was not had in time.
func isPassing(err error) bool {
	switch code(err) {
	case "40001", "40P01", "55P03":
		return true
	}
	return false
}

// IsAway reports that the database cannot be reached, or takes no statements now: it may later.
func IsAway(err error) bool {
	var connect *pgconn.ConnectError
	var network net.Error
	if errors.As(err, &connect) || errors.As(err, &network) || errors.Is(err, driver.ErrBadConn) ||
		errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, net.ErrClosed) {
		return true
	}
	switch c := code(err); c {
	case "57P01", "57P02", "57P03", "53300": // it is going down, or coming up, or has no connection left
		return true
	default:
		return strings.HasPrefix(c, "08")
	}
}

// IsMissing reports that a record to which another refers is not there.
func IsMissing(err error) bool {
	return errors.Is(err, gorm.ErrForeignKeyViolated) || code(err) == "23503"
}

// IsContents reports that the database, or JSON, cannot hold what is to be
// stored: trying again changes nothing.
func IsContents(err error) bool {
	var value *json.UnsupportedValueError
	var marshal *json.MarshalerError
	c := code(err)
	return errors.As(err, &value) || errors.As(err, &marshal) || errors.Is(err, gorm.ErrCheckConstraintViolated) ||
		strings.HasPrefix(c, "22") || strings.HasPrefix(c, "54") || c == "23502" || c == "23514"
}

// touched makes a write that met no record ErrNotFound.
func touched(result *gorm.DB) error {
	if result.Error == nil && result.RowsAffected == 0 {
		return ErrNotFound
	}
	return result.Error
}
