package web

import (
	"context"
	"errors"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"nurvik/core/endpoint"
	"nurvik/internal/api"
	"nurvik/internal/service/auth"
	"nurvik/internal/service/store"
)

func (s *server) registerPeople() {
	huma.Register(s.api, operation("list-people", "GET", "/people", "Who may sign in", "people"),
		func(ctx context.Context, _ *struct{}) (*body[[]api.Person], error) {
			people, err := s.Store.People(ctx)
			if err != nil {
				return nil, s.failure(err)
			}
			out := make([]api.Person, len(people))
			for i, p := range people {
				out[i] = PersonOf(p)
			}
			return &body[[]api.Person]{out}, nil
		})
	add := operation("add-person", "POST", "/people", "Let somebody sign in", "people", 409, 422)
	add.DefaultStatus = 201
	huma.Register(s.api, add, func(ctx context.Context, in *body[api.PersonStart]) (*body[api.Person], error) {
		p, err := s.newPerson(ctx, in.Body.Name, in.Body.Role, in.Body.Password)
		if err != nil {
			return nil, err
		}
		if err := s.Store.AddPerson(ctx, &p); err != nil {
			return nil, s.failure(err)
		}
		told(ctx, p.Name, nil, PersonOf(p))
		return &body[api.Person]{PersonOf(p)}, nil
	})
	type changeInput struct {
		ID   int64 `path:"id" minimum:"1"`
		Body api.PersonChange
	}
	huma.Register(s.api, operation("change-person", "PATCH", "/people/{id}",
		"Change somebody's role, password or whether they may sign in, or remove their passkeys; sessions end",
		"people", 404, 409, 422),
		func(ctx context.Context, in *changeInput) (*body[api.Person], error) {
			hash := ""
			if old, err := s.Store.Person(ctx, in.ID); err != nil {
				return nil, s.failure(err)
			} else if old.ByOpenID() && in.Body.Password+in.Body.Role != "" {
				return nil, invalid([]error{&huma.ErrorDetail{Message: old.Name + " signs in at " + old.OpenIDIssuer +
					", which says which role that is: change it there", Location: "body"}})
			}
			if in.Body.Password != "" {
				var err error
				if hash, err = hashed(ctx, in.Body.Password, "body.password"); err != nil {
					return nil, err
				}
			}
			before, after, err := s.Store.ChangePerson(ctx, in.ID, auth.From(ctx).Session, func(p *store.Person) {
				if in.Body.Role != "" {
					p.Role = in.Body.Role
				}
				if in.Body.Disabled != nil {
					p.Disabled = *in.Body.Disabled
				}
				if hash != "" {
					p.Password = hash
				}
				if in.Body.RemovePasskeys {
					p.Passkeys = 0
				}
			})
			if err != nil {
				return nil, s.failure(err)
			}
			told(ctx, after.Name, PersonOf(before), PersonOf(after))
			return &body[api.Person]{PersonOf(after)}, nil
		})
	huma.Register(s.api, operation("remove-person", "DELETE", "/people/{id}",
		"Remove somebody with sessions and tokens; the activity log keeps the name", "people", 404, 409),
		func(ctx context.Context, in *byID) (*struct{}, error) {
			before, err := s.Store.RemovePerson(ctx, in.ID)
			if err != nil {
				return nil, s.failure(err)
			}
			told(ctx, before.Name, PersonOf(before), nil)
			return nil, nil
		})
}

// PersonOf is somebody without what is secret.
func PersonOf(p store.Person) api.Person {
	return api.Person{ID: p.ID, Name: p.Name, Role: p.Role, Disabled: p.Disabled, CreatedAt: p.CreatedAt,
		SignedInAt: p.SignedInAt, OpenID: p.OpenIDIssuer, Passkeys: p.Passkeys}
}

func (s *server) registerTokens() {
	huma.Register(s.api, operation("list-tokens", "GET", "/tokens",
		"The caller's tokens; administrators see everybody's", "tokens"),
		func(ctx context.Context, _ *struct{}) (*body[[]api.Token], error) {
			tokens, err := s.Store.Tokens(ctx, ownerOf(ctx))
			if err != nil {
				return nil, s.failure(err)
			}
			out := make([]api.Token, len(tokens))
			for i, t := range tokens {
				out[i] = tokenOf(t)
			}
			return &body[[]api.Token]{out}, nil
		})
	add := operation("add-token", "POST", "/tokens", "Make a token for the caller; its text is told this once",
		"tokens", 422)
	add.DefaultStatus = 201
	huma.Register(s.api, add, func(ctx context.Context, in *body[api.TokenStart]) (*body[api.NewToken], error) {
		who := auth.From(ctx)
		if !who.Role.Includes(auth.Role(in.Body.Role)) {
			return nil, invalid([]error{&huma.ErrorDetail{Message: "a token has at most its owner's role, which is " +
				string(who.Role), Location: "body.role"}})
		}
		if field, err := CheckToken(in.Body); err != nil {
			return nil, invalid([]error{&huma.ErrorDetail{Message: err.Error(), Location: "body." + field}})
		}
		secret, t := NewToken(who.Person, in.Body, s.Now())
		if err := s.Store.AddToken(ctx, &t); err != nil {
			return nil, s.failure(err)
		}
		t.Person.Name = who.Name
		told(ctx, t.Name, nil, tokenOf(t))
		return &body[api.NewToken]{api.NewToken{Token: tokenOf(t), Secret: secret}}, nil
	})
	huma.Register(s.api, operation("remove-token", "DELETE", "/tokens/{id}",
		"Take a token back; administrators may take anybody's", "tokens", 404),
		func(ctx context.Context, in *byID) (*struct{}, error) {
			t, err := s.Store.RemoveToken(ctx, in.ID, ownerOf(ctx))
			if err != nil {
				return nil, s.failure(err)
			}
			told(ctx, t.Name, tokenOf(t), nil)
			return nil, nil
		})
}

// ownerOf is whose tokens the caller sees: 0 for everybody's.
func ownerOf(ctx context.Context) int64 {
	who := auth.From(ctx)
	if who.Role == auth.Administrator {
		return 0
	}
	return who.Person
}

// CheckToken says what is wrong with a token that somebody wants, and in which field.
func CheckToken(in api.TokenStart) (field string, err error) {
	worker := auth.Role(in.Role) == auth.Worker
	switch {
	case !IsLabel(in.Label):
		return "label", errors.New("a label is KEY=VALUE")
	case worker && in.Label != "":
		return "label", errors.New("a worker's token is for a vantage, and not for a label")
	case worker && in.Vantage == "":
		return "vantage", errors.New("a worker's token needs the vantage from which it visits")
	case worker:
		return "vantage", endpoint.CheckVantage(in.Vantage)
	case in.Vantage != "":
		return "vantage", errors.New("only tokens of the role worker are for a vantage")
	}
	return "", nil
}

// prefixLength is how much of a token is kept to know it again by, in characters.
const prefixLength = len(auth.TokenPrefix) + 6

// NewToken makes a token of somebody and its text.
func NewToken(person int64, in api.TokenStart, now time.Time) (secret string, t store.Token) {
	text, _ := auth.NewSecret()
	secret = auth.TokenPrefix + text
	t = store.Token{PersonID: person, Name: in.Name, Role: in.Role, Label: in.Label, Vantage: in.Vantage,
		Prefix: secret[:prefixLength],
		Digest: auth.Digest(secret), CreatedAt: now}
	if in.Days > 0 {
		t.ExpiresAt = new(now.AddDate(0, 0, in.Days))
	}
	return secret, t
}

func tokenOf(t store.Token) api.Token {
	return api.Token{ID: t.ID, Name: t.Name, Owner: t.Person.Name, Role: t.Role, Label: t.Label, Vantage: t.Vantage,
		Prefix: t.Prefix, CreatedAt: t.CreatedAt, ExpiresAt: t.ExpiresAt, UsedAt: t.UsedAt}
}
