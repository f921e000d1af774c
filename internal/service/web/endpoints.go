package web

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jackc/pgx/v5/pgconn"

	"nurvik/core/endpoint"
	"nurvik/core/naming"
	"nurvik/core/trust"
	"nurvik/internal/api"
	"nurvik/internal/service/store"
)

type byID struct {
	ID int64 `path:"id" minimum:"1"`
}

type body[T any] struct{ Body T }

func (s *server) registerEndpoints() {
	type listInput struct {
		Search  string `query:"q" maxLength:"200" doc:"Part of the target, the issuer or a label's value"`
		Verdict string `query:"verdict" enum:"sound,at-risk,faulty,unreachable"`
		Sort    string `query:"sort" enum:"target,verdict,not_after,issuer" default:"target"`
		Desc    bool   `query:"desc" doc:"From the end"`
		Cursor  string `query:"cursor" maxLength:"1000"`
		Limit   int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	}
	huma.Register(s.api, operation("list-endpoints", "GET", "/endpoints", "List endpoints", "estate", 422),
		func(ctx context.Context, in *listInput) (*body[api.EndpointPage], error) {
			list, next, err := s.Store.Endpoints(ctx, store.EndpointQuery{Search: in.Search, Verdict: in.Verdict, Sort: in.Sort, Desc: in.Desc, After: in.Cursor, Limit: in.Limit})
			if err != nil {
				return nil, s.failure(err)
			}
			counts, err := s.Store.VerdictCounts(ctx)
			if err != nil {
				return nil, s.failure(err)
			}
			page := api.EndpointPage{Items: []api.Endpoint{}, Next: next, Verdicts: counts}
			for _, e := range list {
				page.Items = append(page.Items, endpointOf(e))
			}
			return &body[api.EndpointPage]{page}, nil
		})
	add := operation("add-endpoint", "POST", "/endpoints", "Add an endpoint", "estate", 409, 422)
	add.DefaultStatus = 201
	huma.Register(s.api, add, func(ctx context.Context, in *body[api.EndpointSettings]) (*body[api.Endpoint], error) {
		e, err := s.settled(ctx, in.Body)
		if err != nil {
			return nil, err
		}
		e.CreatedAt = e.UpdatedAt
		if err := s.Store.AddEndpoint(ctx, &e); err != nil {
			return nil, s.failure(err)
		}
		return &body[api.Endpoint]{endpointOf(e)}, nil
	})
	huma.Register(s.api, operation("get-endpoint", "GET", "/endpoints/{id}", "One endpoint with its latest examination", "estate", 404),
		func(ctx context.Context, in *byID) (*body[api.Examination], error) {
			x, err := s.examination(ctx, in.ID)
			if err != nil {
				return nil, s.failure(err)
			}
			return &body[api.Examination]{x}, nil
		})
	type changeInput struct {
		ID   int64 `path:"id" minimum:"1"`
		Body api.EndpointSettings
	}
	huma.Register(s.api, operation("change-endpoint", "PUT", "/endpoints/{id}", "Change an endpoint's settings", "estate", 404, 409, 422),
		func(ctx context.Context, in *changeInput) (*body[api.Endpoint], error) {
			e, err := s.settled(ctx, in.Body)
			if err != nil {
				return nil, err
			}
			e.ID = in.ID
			if err := s.Store.ChangeEndpoint(ctx, &e); err != nil {
				return nil, s.failure(err)
			}
			if e, err = s.Store.Endpoint(ctx, in.ID); err != nil {
				return nil, s.failure(err)
			}
			return &body[api.Endpoint]{endpointOf(e)}, nil
		})
	huma.Register(s.api, operation("remove-endpoint", "DELETE", "/endpoints/{id}", "Remove an endpoint and its history", "estate", 404),
		func(ctx context.Context, in *byID) (*struct{}, error) {
			if err := s.Store.RemoveEndpoint(ctx, in.ID); err != nil {
				return nil, s.failure(err)
			}
			return nil, nil
		})
}

// settled checks settings and turns them into a record.
func (s *server) settled(ctx context.Context, in api.EndpointSettings) (store.Endpoint, error) {
	known, err := s.storeNames(ctx)
	if err != nil {
		return store.Endpoint{}, s.failure(err)
	}
	e, details := recordOf(in, known, "body")
	if len(details) > 0 {
		return e, invalid(details)
	}
	e.UpdatedAt = s.Now()
	return e, nil
}

func invalid(details []error) error {
	return huma.Error422UnprocessableEntity("some of it cannot be taken; nothing was changed", details...)
}

func (s *server) storeNames(ctx context.Context) (map[string]bool, error) {
	stores, err := s.Store.TrustStores(ctx)
	known := map[string]bool{trust.SystemName: true}
	for _, t := range stores {
		known[t.Name] = true
	}
	return known, err
}

// recordOf checks the settings; each defect is a detail with its place.
func recordOf(in api.EndpointSettings, stores map[string]bool, place string) (store.Endpoint, []error) {
	var details []error
	fail := func(field string, err error) {
		details = append(details, &huma.ErrorDetail{Message: err.Error(), Location: place + "." + field})
	}
	e := store.Endpoint{Names: []string{}, Codes: []string{}, Connect: orEmpty(in.Connect), HTTPPort: in.HTTPPort, Authenticated: in.Authenticated, ServerName: in.ServerName, Trust: orEmpty(in.Trust),
		Audiences: orEmpty(in.Audiences), Labels: in.Labels}
	if e.Labels == nil {
		e.Labels = map[string]string{}
	}
	parsed, err := endpoint.Parse(in.Endpoint)
	if err != nil {
		fail("endpoint", err)
	}
	e.Target = parsed.String()
	for i, text := range in.Names {
		name, err := naming.Parse(text)
		if err != nil {
			fail(fmt.Sprintf("names[%d]", i), err)
		}
		e.Names = append(e.Names, name.String())
	}
	if in.ServerName != "" {
		if name, err := naming.Parse(in.ServerName); err != nil {
			fail("server_name", err)
		} else if name.IsAddress() {
			fail("server_name", errors.New("a server name is a host name, never an address (RFC 6066, section 3)"))
		}
	}
	for i, text := range in.Connect {
		if _, err := endpoint.ParseConnect(text); err != nil {
			fail(fmt.Sprintf("connect[%d]", i), err)
		}
	}
	for field, list := range map[string][]string{"trust": in.Trust, "audiences": in.Audiences} {
		for i, name := range list {
			if !stores[name] {
				fail(fmt.Sprintf("%s[%d]", field, i), fmt.Errorf("there is no trust store %q; import it with the estate, or name one of %v", name, slices.Sorted(maps.Keys(stores))))
			}
		}
	}
	return e, details
}

func orEmpty(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}

func settingsOf(e store.Endpoint) api.EndpointSettings {
	return api.EndpointSettings{Endpoint: e.Target, Names: e.Names, Connect: e.Connect, HTTPPort: e.HTTPPort, Authenticated: e.Authenticated, ServerName: e.ServerName,
		Trust: e.Trust, Audiences: e.Audiences, Labels: e.Labels}
}

func endpointOf(e store.Endpoint) api.Endpoint {
	return api.Endpoint{ID: e.ID, EndpointSettings: settingsOf(e), Verdict: e.Verdict, NotAfter: e.NotAfter, Issuer: e.Issuer,
		Faults: e.Faults, Risks: e.Risks, Notes: e.Notes, Codes: orEmpty(e.Codes), JudgedAt: e.JudgedAt, AuditID: e.AuditID}
}

// isUnstorable recognises what PostgreSQL says of NUL and of bytes that are no UTF-8.
func isUnstorable(err error) bool {
	var refused *pgconn.PgError
	return errors.As(err, &refused) && (refused.Code == "22021" || refused.Code == "22P05")
}

// failure turns an error of the store into an answer; what is unexpected is
// logged here and not told to the caller.
func (s *server) failure(err error) error {
	switch {
	case errors.Is(err, store.ErrNotFound):
		return huma.Error404NotFound("there is no such record")
	case errors.Is(err, store.ErrExists):
		return huma.Error409Conflict(store.ErrExists.Error())
	case errors.Is(err, store.ErrCursor):
		return huma.Error422UnprocessableEntity(store.ErrCursor.Error())
	case isUnstorable(err):
		return huma.Error422UnprocessableEntity("a text holds a character that cannot be stored, such as NUL")
	case errors.Is(err, context.Canceled):
		return huma.NewError(499, "the caller went away")
	}
	s.Log.Error("request failed", "error", err)
	return huma.Error500InternalServerError("the service failed; its log says why")
}
