package web

import (
	"context"
	"errors"
	"fmt"
	"html"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"nurvik/internal/api"
	"nurvik/internal/service/auth"
	"nurvik/internal/service/openid"
	"nurvik/internal/service/store"
)

// openIDTime is how long somebody may take at the provider.
const openIDTime = 15 * time.Minute

// OpenIDPath is where the provider sends people back to.
const OpenIDPath = api.Base + "/session/openid/return"

const noProvider = "there is no OpenID provider: people sign in with name and password"

// providerAway is told to people. Why is in the log: strangers need not know which addresses there are inside.
const providerAway = "Not signed in: the OpenID provider could not be asked. Try again later; the log of the service " +
	"says why."

// page is an answer that a browser shows. Cookies of a session are for requests from our own pages alone, so that after
// the provider's the browser goes on from a page of ours.
type page struct {
	Status      int
	Location    string        `header:"Location"`
	ContentType string        `header:"Content-Type"`
	SetCookie   []http.Cookie `header:"Set-Cookie"`
	Body        []byte
}

func (s *server) registerOpenID() {
	type beginInput struct {
		To string `query:"to" maxLength:"1000" doc:"The page of the console to come back to"`
	}
	begin := operation("begin-openid", "GET", "/session/openid", "Sign in at the OpenID provider, in a browser",
		"session", 404)
	huma.Register(s.api, begin, func(ctx context.Context, in *beginInput) (*page, error) {
		if s.OpenID == nil {
			return nil, huma.Error404NotFound(noProvider)
		}
		address, _ := netip.ParseAddr(auth.From(ctx).Address) // an invalid one may not try
		if !s.Auth.MayTry(address) {
			return sentence(http.StatusTooManyRequests, "Too many sign-ins were begun. Try again in a minute.", ""), nil
		}
		to, try, err := s.OpenID.Begin(ctx)
		if err != nil {
			s.Log.Error("the OpenID provider could not be asked", "error", err)
			return sentence(http.StatusBadGateway, providerAway, ""), nil
		}
		now := s.Now()
		if err := s.Store.BeginOpenID(ctx, &store.OpenIDTry{State: auth.Digest(try.State), Nonce: try.Nonce,
			Verifier: try.Verifier, GoesTo: ours(in.To), EndsAt: now.Add(openIDTime)}, now); err != nil {
			return nil, s.failure(err)
		}
		return &page{Status: http.StatusSeeOther, Location: to,
			SetCookie: []http.Cookie{s.stateCookie(try.State, int(openIDTime.Seconds()))}}, nil
	})
	type finishInput struct {
		Code     string `query:"code" maxLength:"4000"`
		State    string `query:"state" maxLength:"1000"`
		Error    string `query:"error" maxLength:"1000"`
		Own      string `cookie:"nurvik-openid"`
		OwnHTTPS string `cookie:"__Host-nurvik-openid"`
	}
	huma.Register(s.api, operation("finish-openid", "GET", strings.TrimPrefix(OpenIDPath, api.Base),
		"Where the OpenID provider sends a browser back to", "session", 404),
		func(ctx context.Context, in *finishInput) (*page, error) {
			if s.OpenID == nil {
				return nil, huma.Error404NotFound(noProvider)
			}
			state := in.Own
			if s.Auth.Secure {
				state = in.OwnHTTPS
			}
			cookie, to, err := s.finishOpenID(ctx, state, in.State, in.Code, in.Error)
			var gone []http.Cookie
			if state == in.State { // else somebody else's link would end the sign-in that is under way here
				gone = append(gone, s.stateCookie("", -1))
			}
			var refused *openid.RefusedError
			var away *openid.AwayError
			switch {
			case err == nil:
				return sentence(http.StatusOK, "Signed in.", to, append(gone, *cookie)...), nil
			case errors.As(err, &refused):
				return sentence(http.StatusForbidden, "Not signed in: "+err.Error()+".", "", gone...), nil
			case errors.As(err, &away):
				s.Log.Error("the OpenID provider could not be asked", "error", err)
				return sentence(http.StatusBadGateway, providerAway, "", gone...), nil
			case errors.Is(err, store.ErrNameTaken):
				return sentence(http.StatusForbidden, "Not signed in: somebody here has the name that the provider "+
					"tells. An administrator of this service can remove that account.", "", gone...), nil
			}
			return nil, s.failure(err)
		})
}

// finishOpenID lets somebody in who comes back from the provider. The browser must be the one that was sent there,
// which its cookie proves: else a stranger could have somebody sign in as the stranger.
func (s *server) finishOpenID(ctx context.Context, cookie, state, code, failed string) (session *http.Cookie, to string,
	err error) {
	if cookie == "" || cookie != state {
		return nil, "", openid.Refused("this browser has begun no sign-in, or another one since; begin again")
	}
	try, err := s.Store.TakeOpenID(ctx, auth.Digest(state), s.Now())
	switch {
	case errors.Is(err, store.ErrNotFound):
		return nil, "", openid.Refused("the sign-in has taken too long, or has ended already; begin again")
	case err != nil:
		return nil, "", err
	case failed != "":
		return nil, "", openid.Refused("the provider says " + failed)
	}
	activity := store.Activity{At: s.Now(), Through: "OpenID", Address: auth.From(ctx).Address,
		Operation: "finish-openid", Status: http.StatusForbidden}
	defer func() {
		if err := s.Store.BeginActivity(context.WithoutCancel(ctx), &activity); err != nil {
			s.Log.Error("the activity log could not be written", "error", err)
		}
	}()
	who, err := s.OpenID.Finish(ctx, openid.Try{State: state, Nonce: try.Nonce, Verifier: try.Verifier}, code)
	activity.Who, activity.Object = who.Name, who.Name
	if err != nil {
		return nil, "", err
	}
	p, err := s.Store.SignInOpenID(ctx, store.Person{Name: who.Name, Role: string(who.Role), CreatedAt: s.Now(),
		OpenIDIssuer: who.Issuer, OpenIDSubject: who.Subject})
	if err != nil {
		return nil, "", err
	}
	if p.Disabled {
		return nil, "", openid.Refused("an administrator of this service has locked " + p.Name + " out")
	}
	if session, err = s.Auth.Begin(ctx, p); err != nil {
		return nil, "", err
	}
	activity.Status = http.StatusOK
	return session, try.GoesTo, nil
}

// stateCookie binds a sign-in to a browser. It comes back from the provider's page, which the session's does not.
func (s *server) stateCookie(value string, age int) http.Cookie {
	name := "nurvik-openid"
	if s.Auth.Secure {
		name = "__Host-" + name
	}
	return http.Cookie{Name: name, Value: value, Path: "/", MaxAge: age, HttpOnly: true, Secure: s.Auth.Secure,
		SameSite: http.SameSiteLaxMode}
}

// ours is the path if it is one of this console, and never an address that somebody put into a link.
func ours(path string) string {
	if !strings.HasPrefix(path, "/") || strings.HasPrefix(path, "//") || strings.ContainsAny(path, "\\\r\n\t") {
		return "/"
	}
	return path
}

// sentence is a page of one sentence, and goes on by itself where it is told where to.
func sentence(status int, words, to string, cookies ...http.Cookie) *page {
	next, link := "", `<a href="/sign-in">Back to signing in</a>`
	if to != "" {
		next = fmt.Sprintf(`<meta http-equiv="refresh" content="0; url=%s">`, html.EscapeString(to))
		link = fmt.Sprintf(`<a href="%s">Go on</a>`, html.EscapeString(to))
	}
	return &page{Status: status, ContentType: "text/html; charset=utf-8", SetCookie: cookies, Body: fmt.Appendf(nil, `<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<meta name="color-scheme" content="light dark">%s<title>Nurvik</title>
<style>body { font: 16px/1.5 sans-serif; max-width: 34em; margin: 4em auto; padding: 0 1em; }</style></head>
<body><p>%s</p><p>%s</p></body></html>
`, next, html.EscapeString(words), link)}
}
