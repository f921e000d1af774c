package web

import (
	"context"
	"errors"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jackc/pgx/v5/pgconn"

	"nurvik/core/endpoint"
	"nurvik/core/trust"
	"nurvik/internal/api"
	"nurvik/internal/service/auth"
	"nurvik/internal/service/store"
)

type byID struct {
	ID int64 `path:"id" minimum:"1"`
}

type body[T any] struct{ Body T }

// tagged is an answer about one record, by whose tag it can be changed.
type tagged[T any] struct {
	ETag string `header:"ETag"`
	Body T
}

func withTag[T any](tag string, of T) *tagged[T] { return &tagged[T]{`"` + tag + `"`, of} }

// changeByID is how a record is removed.
type changeByID struct {
	ID      int64  `path:"id" minimum:"1"`
	IfMatch string `header:"If-Match" maxLength:"1000" doc:"The record's tag in quotes; it is refused where the record has another by now"`
}

func (s *server) registerEndpoints() {
	type listInput struct {
		Search  string `query:"q" maxLength:"200" doc:"Part of the target, the issuer, the owner or a label's value"`
		Owner   string `query:"owner" maxLength:"200"`
		Label   string `query:"label" maxLength:"300" doc:"KEY=VALUE"`
		Policy  string `query:"policy" maxLength:"100" doc:"That is assigned"`
		Verdict string `query:"verdict" enum:"sound,at-risk,faulty,unreachable"`
		Sort    string `query:"sort" enum:"target,verdict,not_after,issuer" default:"target"`
		Desc    bool   `query:"desc" doc:"From the end"`
		Cursor  string `query:"cursor" maxLength:"1000"`
		Limit   int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	}
	huma.Register(s.api, operation("list-endpoints", "GET", "/endpoints", "List endpoints", "estate", 422),
		func(ctx context.Context, in *listInput) (*body[api.EndpointPage], error) {
			of, err := ofLabel(ctx, in.Label)
			if err != nil {
				return nil, err
			}
			list, next, err := s.Store.Endpoints(ctx, store.EndpointQuery{Search: in.Search, Verdict: in.Verdict,
				Owner: in.Owner, Label: of, Policy: in.Policy, Sort: in.Sort, Desc: in.Desc,
				After: in.Cursor, Limit: in.Limit})
			if err != nil {
				return nil, s.failure(err)
			}
			counts, err := s.Store.VerdictCounts(ctx, auth.From(ctx).Label)
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
	add.DefaultStatus, add.MaxBodyBytes = 201, largeBody
	huma.Register(s.api, add, func(ctx context.Context, in *body[api.EndpointSettings]) (*tagged[api.Endpoint], error) {
		if err := keepsLabel(ctx, in.Body); err != nil {
			return nil, err
		}
		e, err := s.settled(ctx, in.Body)
		if err != nil {
			return nil, err
		}
		e.CreatedAt = e.UpdatedAt
		if err := s.Store.AddEndpoint(ctx, &e); err != nil {
			return nil, s.failure(err)
		}
		told(ctx, e.Target, nil, in.Body)
		return withTag(e.Tag(), endpointOf(e)), nil
	})
	huma.Register(s.api, operation("get-endpoint", "GET", "/endpoints/{id}", "One endpoint with its latest examination",
		"estate", 404),
		func(ctx context.Context, in *byID) (*tagged[api.Examination], error) {
			x, err := s.examination(ctx, in.ID)
			if err != nil {
				return nil, s.failure(err)
			}
			return withTag(x.Endpoint.Tag, x), nil
		})
	type changeInput struct {
		ID      int64  `path:"id" minimum:"1"`
		IfMatch string `header:"If-Match" maxLength:"1000" doc:"The endpoint's tag in quotes; it is refused where the endpoint has another by now"`
		Body    api.EndpointSettings
	}
	change := operation("change-endpoint", "PUT", "/endpoints/{id}", "Change an endpoint's settings", "estate", 404,
		409, 412, 422)
	change.MaxBodyBytes = largeBody
	huma.Register(s.api, change,
		func(ctx context.Context, in *changeInput) (*tagged[api.Endpoint], error) {
			if err := keepsLabel(ctx, in.Body); err != nil {
				return nil, err
			}
			e, err := s.settled(ctx, in.Body)
			if err != nil {
				return nil, err
			}
			before, err := s.Store.Endpoint(ctx, in.ID)
			if err != nil {
				return nil, s.failure(err)
			}
			told(ctx, before.Target, endpointOf(before).EndpointSettings, in.Body)
			e.ID = in.ID
			if err := s.Store.ChangeEndpoint(ctx, &e, in.IfMatch); err != nil {
				return nil, s.failure(err)
			}
			if e, err = s.Store.Endpoint(ctx, in.ID); err != nil {
				return nil, s.failure(err)
			}
			return withTag(e.Tag(), endpointOf(e)), nil
		})
	huma.Register(s.api, operation("remove-endpoint", "DELETE", "/endpoints/{id}", "Remove an endpoint and its history",
		"estate", 404, 412),
		func(ctx context.Context, in *changeByID) (*struct{}, error) {
			before, err := s.Store.Endpoint(ctx, in.ID)
			if err != nil {
				return nil, s.failure(err)
			}
			told(ctx, before.Target, endpointOf(before).EndpointSettings, nil)
			if err := s.Store.RemoveEndpoint(ctx, in.ID, in.IfMatch); err != nil {
				return nil, s.failure(err)
			}
			return nil, nil
		})
	huma.Register(s.api, operation("forget-unfinished-logins", "DELETE", "/endpoints/{id}/unfinished-logins",
		"Count connections that ended before the login from zero again, as the database server does", "estate",
		404),
		func(ctx context.Context, in *byID) (*body[api.Forgotten], error) {
			n, err := s.Store.ForgetUnfinished(ctx, in.ID)
			if err != nil {
				return nil, s.failure(err)
			}
			return &body[api.Forgotten]{api.Forgotten{Connections: n}}, nil
		})
}

// settled checks settings and turns them into a record.
func (s *server) settled(ctx context.Context, in api.EndpointSettings) (store.Endpoint, error) {
	known, err := s.known(ctx)
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

// maxTold is how many defects of one request are told.
const maxTold = 20

func invalid(details []error) error {
	return huma.Error422UnprocessableEntity("some of it cannot be taken; nothing was changed", details...)
}

// known are the trust stores and policies that settings may name.
func (s *server) known(ctx context.Context) (endpoint.Known, error) {
	known := endpoint.Known{Stores: map[string]bool{trust.SystemName: true}, Policies: map[string]bool{},
		Schedules: map[string]bool{}}
	stores, err := s.Store.TrustStores(ctx)
	if err != nil {
		return known, err
	}
	for _, t := range stores {
		known.Stores[t.Name] = true
	}
	policies, err := s.Store.Policies(ctx)
	for _, p := range policies {
		known.Policies[p.Name] = true
	}
	if err != nil {
		return known, err
	}
	schedules, err := s.Store.Schedules(ctx)
	for _, one := range schedules {
		known.Schedules[one.Name] = true
	}
	return known, err
}

// recordOf checks the settings; each defect is a detail with its place.
func recordOf(in api.EndpointSettings, known endpoint.Known, place string) (store.Endpoint, []error) {
	var details []error
	for _, d := range in.Settle(known) {
		details = append(details, &huma.ErrorDetail{Message: d.Err.Error(), Location: place + "." + d.Field})
	}
	return store.Endpoint{Target: in.Endpoint, Settings: in, Latest: store.Latest{Codes: []string{}}}, details
}

func orEmpty(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}

func endpointOf(e store.Endpoint) api.Endpoint {
	return api.Endpoint{ID: e.ID, Tag: e.Tag(), EndpointSettings: e.Settings, Verdict: e.Verdict, NotAfter: e.NotAfter,
		Issuer: e.Issuer, JudgedBy: e.JudgedBy,
		Faults: e.Faults, Risks: e.Risks, NoteFindings: e.Notes, Waived: e.Waived, Codes: orEmpty(e.Codes),
		JudgedAt: e.JudgedAt, AuditID: e.AuditID, Provisional: e.Provisional}
}

// isUnstorable recognises what PostgreSQL says of NUL and of bytes that are no UTF-8.
func isUnstorable(err error) bool {
	var refused *pgconn.PgError
	return errors.As(err, &refused) && (refused.Code == "22021" || refused.Code == "22P05")
}

// failure turns an error of the store into an answer; what is unexpected is
// logged here and not told to the caller.
func (s *server) failure(err error) error {
	var told huma.StatusError
	var part *store.PartError
	var changed *store.ChangedError
	var twice *store.TwiceError
	switch {
	case errors.Is(err, store.ErrNotFound):
		return huma.Error404NotFound("there is no such record")
	case errors.Is(err, store.ErrStale):
		return huma.Error412PreconditionFailed(store.ErrStale.Error())
	case errors.Is(err, store.ErrExists):
		return huma.Error409Conflict(store.ErrExists.Error())
	case errors.As(err, &told):
		return err
	case errors.As(err, &twice):
		return huma.Error422UnprocessableEntity(err.Error())
	case errors.As(err, &part), errors.Is(err, store.ErrFinished), errors.As(err, &changed):
		return huma.Error409Conflict(err.Error())
	case errors.Is(err, store.ErrTooMany):
		return huma.Error429TooManyRequests(err.Error())
	case errors.Is(err, store.ErrConflict), store.IsMissing(err):
		return huma.Error409Conflict(store.ErrConflict.Error())
	case errors.Is(err, store.ErrBuiltin), errors.Is(err, store.ErrInUse), errors.Is(err, store.ErrNameTaken),
		errors.Is(err, store.ErrPasskeys), errors.Is(err, store.ErrPasskeyThere),
		errors.Is(err, store.ErrLastAdministrator), errors.Is(err, store.ErrSetUp),
		errors.Is(err, store.ErrTooManySchedules), errors.Is(err, store.ErrSearching),
		errors.Is(err, store.ErrScheduleInUse):
		return huma.Error409Conflict(err.Error())
	case errors.Is(err, store.ErrCursor):
		return huma.Error422UnprocessableEntity(store.ErrCursor.Error())
	case isUnstorable(err):
		return huma.Error422UnprocessableEntity("a text holds a character that cannot be stored, such as NUL")
	case errors.Is(err, context.Canceled):
		return huma.NewError(499, "the caller went away")
	case store.IsAway(err):
		s.Log.Error("the database does not answer", "error", err)
		return huma.ErrorWithHeaders(huma.Error503ServiceUnavailable(databaseAway), http.Header{"Retry-After": {"5"}})
	}
	s.Log.Error("request failed", "error", err)
	return huma.Error500InternalServerError("the service failed; its log says why")
}
