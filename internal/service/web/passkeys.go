package web

import (
	"context"
	"encoding/json"
	"errors"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"nurvik/internal/api"
	"nurvik/internal/service/auth"
	"nurvik/internal/service/passkey"
	"nurvik/internal/service/store"
)

const noPasskeys = "browsers take passkeys for a host name over HTTPS alone, and this service knows none of its own: " +
	"give --public-url, or --tls-certificate with a name"

const tooLate = "that took longer than five minutes, or was answered already; begin again"

func (s *server) registerPasskeys() {
	sign := operation("sign-in-passkey", "POST", "/session/passkey",
		"Sign in with a passkey, after name and password", "session", 422)
	huma.Register(s.api, sign, func(ctx context.Context, in *body[api.ChallengeAnswer]) (*signedIn, error) {
		if s.Passkeys == nil {
			return nil, huma.Error403Forbidden(noPasskeys)
		}
		p, err := s.checkPasskey(ctx, in.Body)
		if err != nil {
			return nil, err
		}
		return s.signIn(ctx, p)
	})
	huma.Register(s.api, operation("list-passkeys", "GET", "/passkeys", "The caller's passkeys", "session"),
		func(ctx context.Context, _ *struct{}) (*body[api.Passkeys], error) {
			list, err := s.Store.Passkeys(ctx, auth.From(ctx).Person)
			if err != nil {
				return nil, s.failure(err)
			}
			out := api.Passkeys{Items: make([]api.Passkey, len(list))}
			for i, p := range list {
				out.Items[i] = passkeyOf(p)
			}
			if s.Passkeys != nil {
				out.Address = s.Passkeys.Address()
			}
			return &body[api.Passkeys]{out}, nil
		})
	huma.Register(s.api, operation("begin-passkey", "POST", "/passkeys/challenge",
		"What a browser makes a passkey of the caller from", "session", 422, 429),
		func(ctx context.Context, in *body[api.PasskeyBegin]) (*body[api.Challenge], error) {
			p, err := s.passwordAgain(ctx, in.Body.Password)
			if err != nil {
				return nil, err
			}
			owner, err := s.owner(ctx, p)
			if err != nil {
				return nil, s.failure(err)
			}
			options, challenge, err := s.Passkeys.AskNew(owner)
			if err != nil {
				return nil, s.failure(err)
			}
			asked, err := s.ask(ctx, store.PasskeyTry{PersonID: p.ID, Adds: true, Challenge: challenge}, options)
			if err != nil {
				return nil, err
			}
			return &body[api.Challenge]{*asked}, nil
		})
	add := operation("add-passkey", "POST", "/passkeys",
		"Add a passkey, which is asked for beside the password from then on; all other sessions end", "session",
		409, 422)
	add.DefaultStatus = 201
	huma.Register(s.api, add, func(ctx context.Context, in *body[api.PasskeyStart]) (*body[api.Passkey], error) {
		who := auth.From(ctx)
		if who.Session == nil || s.Passkeys == nil {
			return nil, huma.Error403Forbidden(onlySignedIn)
		}
		try, err := s.Store.TakePasskey(ctx, auth.Digest(in.Body.Try), true, s.Now())
		if errors.Is(err, store.ErrNotFound) || err == nil && try.PersonID != who.Person {
			return nil, invalid([]error{&huma.ErrorDetail{Message: tooLate, Location: "body.try"}})
		} else if err != nil {
			return nil, s.failure(err)
		}
		owner, err := s.owner(ctx, store.Person{ID: who.Person, Name: who.Name})
		if err != nil {
			return nil, s.failure(err)
		}
		id, key, err := s.Passkeys.Add(owner, try.Challenge, in.Body.Answer)
		if errors.Is(err, passkey.ErrRefused) {
			return nil, invalid([]error{&huma.ErrorDetail{Message: err.Error(), Location: "body.answer"}})
		} else if err != nil {
			return nil, s.failure(err)
		}
		p := store.Passkey{PersonID: who.Person, Name: in.Body.Name, CredentialID: id, Credential: key,
			CreatedAt: s.Now()}
		if err := s.Store.AddPasskey(ctx, &p, who.Session); err != nil {
			return nil, s.failure(err)
		}
		told(ctx, p.Name, nil, passkeyOf(p))
		return &body[api.Passkey]{passkeyOf(p)}, nil
	})
	huma.Register(s.api, operation("remove-passkey", "DELETE", "/passkeys/{id}",
		"Remove a passkey of the caller's", "session", 404),
		func(ctx context.Context, in *byID) (*struct{}, error) {
			who := auth.From(ctx)
			list, err := s.Store.Passkeys(ctx, who.Person)
			switch {
			case err != nil:
				return nil, s.failure(err)
			case !slices.ContainsFunc(list, func(p store.Passkey) bool { return p.ID == in.ID }):
				return nil, s.failure(store.ErrNotFound)
			case who.Session == nil:
				return nil, huma.Error403Forbidden(onlySignedIn)
			}
			p, err := s.Store.RemovePasskey(ctx, in.ID, who.Person)
			if err != nil {
				return nil, s.failure(err)
			}
			told(ctx, p.Name, passkeyOf(p), nil)
			return nil, nil
		})
}

const onlySignedIn = "passkeys are managed by whoever is signed in with a password, not by a token"

// passwordAgain is the caller, who has said the password once more: a session that somebody else has got hold of is not
// enough for a new passkey.
func (s *server) passwordAgain(ctx context.Context, password string) (p store.Person, err error) {
	who := auth.From(ctx)
	switch {
	case who.Session == nil:
		return p, huma.Error403Forbidden(onlySignedIn)
	case s.Passkeys == nil:
		return p, huma.Error403Forbidden(noPasskeys)
	}
	if p, err = s.Store.Person(ctx, who.Person); err != nil {
		return p, s.failure(err)
	}
	if p.ByOpenID() {
		return p, huma.Error403Forbidden("you sign in at " + p.OpenIDIssuer + ", which asks for what it wants to see")
	}
	return p, s.ownPassword(ctx, p, password, "body.password")
}

// checkPasskey is who was asked for a passkey and has answered with it.
func (s *server) checkPasskey(ctx context.Context, in api.ChallengeAnswer) (p store.Person, err error) {
	try, err := s.Store.TakePasskey(ctx, auth.Digest(in.Try), false, s.Now())
	switch {
	case errors.Is(err, store.ErrNotFound):
		return p, huma.Error401Unauthorized(tooLate)
	case err != nil:
		return p, s.failure(err)
	}
	if p, err = s.Store.Person(ctx, try.PersonID); err != nil {
		return p, s.failure(err)
	}
	told(ctx, p.Name, nil, nil)
	owner, err := s.owner(ctx, p)
	if err != nil {
		return p, s.failure(err)
	}
	id, key, err := s.Passkeys.Check(owner, try.Challenge, in.Answer)
	if err == nil && p.Disabled {
		err = passkey.ErrRefused
	}
	if err == nil {
		err = s.Store.PasskeyUsed(ctx, p.ID, id, key, s.Now())
	}
	switch {
	case err == nil:
		return p, nil
	case errors.Is(err, passkey.ErrRefused), errors.Is(err, store.ErrNotFound):
		s.Log.Warn("a sign-in was refused after the password", "name", p.Name, "error", err)
		if err := s.Auth.Failed(ctx, p.Name); err != nil {
			return p, s.failure(err)
		}
		return p, huma.Error401Unauthorized(passkey.ErrRefused.Error() + "; begin again")
	}
	return p, s.failure(err)
}

// secondFactor is what is asked of somebody who has said the password, nil for nothing.
func (s *server) secondFactor(ctx context.Context, p store.Person) (*api.Challenge, error) {
	owner, err := s.owner(ctx, p)
	if err != nil {
		return nil, s.failure(err)
	}
	if len(owner.Keys) == 0 {
		return nil, nil
	}
	if s.Passkeys == nil { // the service has lost its name: nobody gets in with less than before
		return nil, huma.Error403Forbidden("you have a passkey, and " + noPasskeys)
	}
	options, challenge, err := s.Passkeys.Ask(owner)
	if err != nil {
		return nil, s.failure(err)
	}
	return s.ask(ctx, store.PasskeyTry{PersonID: p.ID, Challenge: challenge}, options)
}

func (s *server) ask(ctx context.Context, try store.PasskeyTry, options json.RawMessage) (*api.Challenge, error) {
	secret, digest := auth.NewSecret()
	try.Digest, try.EndsAt = digest, s.Now().Add(passkey.Time)
	if err := s.Store.BeginPasskey(ctx, &try, s.Now()); err != nil {
		return nil, s.failure(err)
	}
	return &api.Challenge{Try: secret, Options: options, Address: s.Passkeys.Address()}, nil
}

func (s *server) owner(ctx context.Context, p store.Person) (passkey.Owner, error) {
	list, err := s.Store.Passkeys(ctx, p.ID)
	out := passkey.Owner{ID: p.ID, Name: p.Name}
	for _, k := range list {
		out.Keys = append(out.Keys, k.Credential)
	}
	return out, err
}

// signIn answers with a new session of somebody.
func (s *server) signIn(ctx context.Context, p store.Person) (*signedIn, error) {
	cookie, err := s.Auth.Begin(ctx, p)
	if err != nil {
		return nil, s.failure(err)
	}
	return s.begun(ctx, cookie)
}

func passkeyOf(p store.Passkey) api.Passkey {
	return api.Passkey{ID: p.ID, Name: p.Name, CreatedAt: p.CreatedAt, UsedAt: p.UsedAt}
}
