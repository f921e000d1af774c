// Package auth says who a caller is. The service listens on loopback only and
// so far knows one caller, whoever is on this machine; accounts and tokens take
// the place of Local when they come.
package auth

import (
	"context"
	"errors"
	"net"
	"net/http"
	"net/netip"
)

// Identity is a caller.
type Identity struct{ Name string }

// ErrUnknown says that nobody is known by what the caller showed.
var ErrUnknown = errors.New("the caller is not known")

// Authenticator finds out who sent a request.
type Authenticator interface {
	Identify(r *http.Request) (Identity, error)
}

// Local takes every caller on this machine for its operator, and nobody else.
type Local struct{}

// Identify implements Authenticator.
func (Local) Identify(r *http.Request) (Identity, error) {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return Identity{}, ErrUnknown
	}
	if address, err := netip.ParseAddr(host); err != nil || !address.IsLoopback() {
		return Identity{}, ErrUnknown
	}
	return Identity{Name: "operator"}, nil
}

type key struct{}

// From returns the caller of the request that the context belongs to.
func From(ctx context.Context) Identity {
	identity, _ := ctx.Value(key{}).(Identity)
	return identity
}

// Middleware lets known callers pass.
func Middleware(a Authenticator) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			identity, err := a.Identify(r)
			if err != nil {
				w.Header().Set("Content-Type", "application/problem+json")
				w.WriteHeader(http.StatusUnauthorized)
				_, _ = w.Write([]byte(`{"title":"Unauthorized","status":401,"detail":"callers from other machines are not known yet"}` + "\n"))
				return
			}
			next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), key{}, identity)))
		})
	}
}
