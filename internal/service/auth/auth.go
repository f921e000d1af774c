// Package auth says who a caller is and what that allows: people with a
// password and a session, and tokens of the API.
package auth

import (
	"context"
	"errors"
	"net/http"
	"time"
)

// Identity is a caller.
type Identity struct {
	Person  int64 // whose account it is
	Name    string
	Role    Role
	Label   string    // KEY=VALUE of the endpoints that the caller is let at, "" for all
	Vantage string    // from where the caller visits, of the role Worker
	Token   int64     // the number of its token; 0 without one
	Through string    // "session", "token" with its name, or "demo"
	Session []byte    // the digest of the session's cookie; nil without one
	Ends    time.Time // when the session ends unless it is used; zero without one
	Address string    // where the caller is
}

// Known reports whether it is somebody.
func (i Identity) Known() bool { return i.Role != "" }

// ErrUnknown says that nobody is known by what the caller showed.
var ErrUnknown = errors.New("the caller is not known")

type key struct{}

// From returns the caller of the request that the context belongs to.
func From(ctx context.Context) Identity {
	identity, _ := ctx.Value(key{}).(Identity)
	return identity
}

// Middleware finds out who the caller is. Who nobody knows passes too: what is
// done then decides on it. failed answers when the database cannot say.
func (d *Door) Middleware(failed func(http.ResponseWriter, error)) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			identity, err := d.Identify(r)
			if err != nil && !errors.Is(err, ErrUnknown) {
				failed(w, err)
				return
			}
			identity.Address = d.Address(r).String()
			next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), key{}, identity)))
		})
	}
}
