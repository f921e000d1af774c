package web

import (
	"context"
	"errors"
	"math"
	"net/http"
	"net/netip"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"nurvik/internal/api"
	"nurvik/internal/service/auth"
	"nurvik/internal/service/store"
)

// signedIn answers with a new session and its cookie.
type signedIn struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      api.Session
}

// maybeSignedIn answers name and password: with the session and 200, or with what is asked of a passkey and 202.
type maybeSignedIn struct {
	Status    int
	SetCookie []http.Cookie `header:"Set-Cookie"`
	Body      api.SignedIn
}

// signedOut takes the cookie away.
type signedOut struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}

func (s *server) registerSession() {
	huma.Register(s.api, operation("sign-in", "POST", "/session", "Sign in with name and password; who has a passkey "+
		"is asked for it with status 202", "session", 422, 429),
		func(ctx context.Context, in *body[api.SignIn]) (*maybeSignedIn, error) {
			address, _ := netip.ParseAddr(auth.From(ctx).Address) // an invalid one may not try
			told(ctx, in.Body.Name, nil, nil)
			p, wait, err := s.Auth.Know(ctx, in.Body.Name, in.Body.Password, address)
			switch {
			case errors.Is(err, auth.ErrWrong):
				return nil, huma.Error401Unauthorized(err.Error())
			case errors.Is(err, auth.ErrSlow):
				return nil, slow(wait)
			case err != nil:
				return nil, s.failure(err)
			}
			asked, err := s.secondFactor(ctx, p)
			if err != nil {
				return nil, err
			}
			if asked != nil {
				return &maybeSignedIn{Status: http.StatusAccepted, Body: api.SignedIn{Passkey: asked}}, nil
			}
			session, err := s.signIn(ctx, p)
			if err != nil {
				return nil, err
			}
			return &maybeSignedIn{Status: http.StatusOK, SetCookie: []http.Cookie{session.SetCookie},
				Body: api.SignedIn{Session: &session.Body}}, nil
		})
	type setUpState struct {
		Needed bool   `json:"needed" doc:"There is no administrator yet"`
		OpenID string `json:"openid,omitempty" doc:"What the OpenID provider is called that people may sign in at"`
	}
	huma.Register(s.api, operation("get-set-up", "GET", "/set-up",
		"Whether the first administrator is still to be made, and where else people sign in", "session"),
		func(ctx context.Context, _ *struct{}) (*body[setUpState], error) {
			needed, err := s.Store.NeedsSetUp(ctx)
			if err != nil {
				return nil, s.failure(err)
			}
			state := setUpState{Needed: needed}
			if s.OpenID != nil {
				state.OpenID = s.OpenID.Title()
			}
			return &body[setUpState]{state}, nil
		})
	huma.Register(s.api, operation("set-up", "POST", "/set-up",
		"Make the first administrator with the code that the first start printed, and sign in", "session", 409, 422),
		func(ctx context.Context, in *body[api.SetUp]) (*signedIn, error) {
			told(ctx, in.Body.Name, nil, nil)
			p, err := s.newPerson(ctx, in.Body.Name, string(auth.Administrator), in.Body.Password)
			if err != nil {
				return nil, err
			}
			if err := s.Store.SetUp(ctx, auth.Digest(in.Body.Code), &p); err != nil {
				return nil, s.failure(err)
			}
			s.Log.Info("the first administrator was made", "name", p.Name)
			return s.signIn(ctx, p)
		})
	huma.Register(s.api, operation("get-session", "GET", "/session", "Who the caller is", "session"),
		func(ctx context.Context, _ *struct{}) (*body[api.Session], error) {
			return &body[api.Session]{sessionOf(auth.From(ctx))}, nil
		})
	huma.Register(s.api, operation("sign-out", "DELETE", "/session", "End the session", "session"),
		func(ctx context.Context, _ *struct{}) (*signedOut, error) {
			if who := auth.From(ctx); who.Session != nil {
				if err := s.Store.EndSession(ctx, who.Session); err != nil {
					return nil, s.failure(err)
				}
			}
			return &signedOut{*s.Auth.Gone()}, nil
		})
	huma.Register(s.api, operation("sign-out-all", "DELETE", "/sessions", "End every session of the caller", "session"),
		func(ctx context.Context, _ *struct{}) (*signedOut, error) {
			if err := s.Store.EndSessions(ctx, auth.From(ctx).Person); err != nil {
				return nil, s.failure(err)
			}
			return &signedOut{*s.Auth.Gone()}, nil
		})
	huma.Register(s.api, operation("change-password", "PUT", "/session/password",
		"Change the caller's own password; all other sessions end", "session", 422, 429),
		func(ctx context.Context, in *body[api.PasswordChange]) (*struct{}, error) {
			who := auth.From(ctx)
			if who.Session == nil {
				return nil, huma.Error403Forbidden(
					"a password is changed by whoever is signed in with it, not by a token")
			}
			return nil, s.changePassword(ctx, who, in.Body)
		})
}

func (s *server) changePassword(ctx context.Context, who auth.Identity, in api.PasswordChange) error {
	p, err := s.Store.Person(ctx, who.Person)
	if err != nil {
		return s.failure(err)
	}
	if p.ByOpenID() {
		return huma.Error403Forbidden("you sign in at " + p.OpenIDIssuer + ": your password is changed there")
	}
	if err := s.ownPassword(ctx, p, in.Old, "body.old"); err != nil {
		return err
	}
	hash, err := hashed(ctx, in.New, "body.new")
	if err != nil {
		return err
	}
	_, _, err = s.Store.ChangePerson(ctx, who.Person, who.Session, func(p *store.Person) { p.Password = hash })
	if err != nil {
		return s.failure(err)
	}
	return nil
}

// ownPassword refuses what is not the person's password, and counts it: a session that somebody else has got hold of is
// no way to guess.
func (s *server) ownPassword(ctx context.Context, p store.Person, password, place string) error {
	closed, err := s.Store.ClosedTo(ctx, p.Name)
	if err != nil {
		return s.failure(err)
	}
	if wait := closed.Sub(s.Now()); wait > 0 {
		return slow(wait)
	}
	right, err := auth.Matches(ctx, p.Password, password)
	if err == nil && !right {
		err = s.Auth.Failed(ctx, p.Name)
	}
	if err != nil {
		return s.failure(err)
	}
	if !right {
		return invalid([]error{&huma.ErrorDetail{Message: "this is not your password", Location: place}})
	}
	return nil
}

// slow says when the next password is tried.
func slow(wait time.Duration) error {
	seconds := strconv.Itoa(int(math.Ceil(wait.Seconds())))
	return huma.ErrorWithHeaders(huma.Error429TooManyRequests("too many sign-ins failed; try again in "+seconds+
		" seconds"), http.Header{"Retry-After": {seconds}})
}

// begun answers with a new session.
func (s *server) begun(ctx context.Context, cookie *http.Cookie) (*signedIn, error) {
	x, err := s.Store.Session(ctx, auth.Digest(cookie.Value), s.Now())
	if err != nil {
		return nil, s.failure(err)
	}
	return &signedIn{*cookie, api.Session{Name: x.Person.Name, Role: x.Person.Role, Through: "session",
		EndsAt: &x.EndsAt}}, nil
}

func sessionOf(who auth.Identity) api.Session {
	out := api.Session{Name: who.Name, Role: string(who.Role), Label: who.Label, Through: who.Through}
	if !who.Ends.IsZero() {
		out.EndsAt = &who.Ends
	}
	return out
}

// newPerson makes the record of somebody with a password.
func (s *server) newPerson(ctx context.Context, name, role, password string) (store.Person, error) {
	hash, err := hashed(ctx, password, "body.password")
	return store.Person{Name: name, Role: role, Password: hash, CreatedAt: s.Now()}, err
}

// hashed is a new password as it is stored, or says what is wrong with it.
func hashed(ctx context.Context, password, place string) (string, error) {
	if wrong := auth.CheckPassword(password); wrong != "" {
		return "", invalid([]error{&huma.ErrorDetail{Message: wrong, Location: place}})
	}
	return auth.Hash(ctx, password)
}
