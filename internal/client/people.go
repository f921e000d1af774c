package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"

	"nurvik/core/plain"
	"nurvik/internal/api"
)

// SignIn begins a session, in which the client goes on until SignOut. Who has a passkey is asked for it instead, which
// FinishSignIn answers.
func (c *Client) SignIn(ctx context.Context, name, password string) (s api.SignedIn, err error) {
	return s, c.enter(ctx, "/session", api.SignIn{Name: name, Password: password}, &s)
}

// FinishSignIn begins the session of somebody who was asked for a passkey.
func (c *Client) FinishSignIn(ctx context.Context, in api.ChallengeAnswer) (s api.Session, err error) {
	return s, c.enter(ctx, "/session/passkey", in, &s)
}

// Passkeys returns the caller's.
func (c *Client) Passkeys(ctx context.Context) (out api.Passkeys, err error) {
	return out, c.call(ctx, http.MethodGet, "/passkeys", nil, &out)
}

// BeginPasskey asks what a new passkey of the caller is to be made from.
func (c *Client) BeginPasskey(ctx context.Context, password string) (out api.Challenge, err error) {
	return out, c.call(ctx, http.MethodPost, "/passkeys/challenge", api.PasskeyBegin{Password: password}, &out)
}

// AddPasskey adds one to the caller.
func (c *Client) AddPasskey(ctx context.Context, in api.PasskeyStart) (p api.Passkey, err error) {
	return p, c.call(ctx, http.MethodPost, "/passkeys", in, &p)
}

// RemovePasskey removes one of the caller's.
func (c *Client) RemovePasskey(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, "/passkeys/"+strconv.FormatInt(id, 10), nil, nil)
}

// SetUp makes the first administrator, and begins a session.
func (c *Client) SetUp(ctx context.Context, in api.SetUp) (s api.Session, err error) {
	return s, c.enter(ctx, "/set-up", in, &s)
}

// enter keeps the cookie of a new session by hand: a jar would send one that is for HTTPS to no service on this
// machine that a proxy makes HTTPS of.
func (c *Client) enter(ctx context.Context, path string, in, answer any) error {
	if c.open != nil {
		return c.open
	}
	response, err := c.request(ctx, http.MethodPost, path, in)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if err := json.NewDecoder(response.Body).Decode(answer); err != nil {
		return fmt.Errorf("the answer of %s cannot be read: %w; is it a Nurvik service of this version?", c.base, err)
	}
	plain.CleanLinesIn(answer)
	for _, cookie := range response.Cookies() {
		c.cookie = cookie
		return nil
	}
	if response.StatusCode == http.StatusAccepted {
		return nil // it asks for more first
	}
	return errors.New("the service began no session")
}

// SignOut ends the session.
func (c *Client) SignOut(ctx context.Context) error {
	defer func() { c.cookie = nil }()
	return c.call(ctx, http.MethodDelete, "/session", nil, nil)
}

// SignOutEverywhere ends every session of the caller.
func (c *Client) SignOutEverywhere(ctx context.Context) error {
	defer func() { c.cookie = nil }()
	return c.call(ctx, http.MethodDelete, "/sessions", nil, nil)
}

// Session says who the caller is.
func (c *Client) Session(ctx context.Context) (s api.Session, err error) {
	return s, c.call(ctx, http.MethodGet, "/session", nil, &s)
}

// ChangePassword changes the password of whoever is signed in.
func (c *Client) ChangePassword(ctx context.Context, in api.PasswordChange) error {
	return c.call(ctx, http.MethodPut, "/session/password", in, nil)
}

// Tokens returns the caller's tokens; administrators see everybody's.
func (c *Client) Tokens(ctx context.Context) (list []api.Token, err error) {
	return list, c.call(ctx, http.MethodGet, "/tokens", nil, &list)
}

// AddToken makes a token for the caller.
func (c *Client) AddToken(ctx context.Context, in api.TokenStart) (t api.NewToken, err error) {
	return t, c.call(ctx, http.MethodPost, "/tokens", in, &t)
}

// RemoveToken takes a token back.
func (c *Client) RemoveToken(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, "/tokens/"+strconv.FormatInt(id, 10), nil, nil)
}

// People returns who may sign in.
func (c *Client) People(ctx context.Context) (list []api.Person, err error) {
	return list, c.call(ctx, http.MethodGet, "/people", nil, &list)
}

// AddPerson lets somebody sign in.
func (c *Client) AddPerson(ctx context.Context, in api.PersonStart) (p api.Person, err error) {
	return p, c.call(ctx, http.MethodPost, "/people", in, &p)
}

// ChangePerson changes somebody.
func (c *Client) ChangePerson(ctx context.Context, id int64, in api.PersonChange) (p api.Person, err error) {
	return p, c.call(ctx, http.MethodPatch, "/people/"+strconv.FormatInt(id, 10), in, &p)
}

// RemovePerson removes somebody with sessions and tokens.
func (c *Client) RemovePerson(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, "/people/"+strconv.FormatInt(id, 10), nil, nil)
}

// Activity returns a page of who did what, the newest first.
func (c *Client) Activity(ctx context.Context, cursor string, limit int) (page api.ActivityPage, err error) {
	q := url.Values{"cursor": {cursor}, "limit": {strconv.Itoa(limit)}}
	return page, c.call(ctx, http.MethodGet, "/activity?"+q.Encode(), nil, &page)
}
