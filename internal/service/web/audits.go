package web

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"nurvik/internal/api"
	"nurvik/internal/service/auth"
	"nurvik/internal/service/jobs"
	"nurvik/internal/service/store"
)

// Times of following an audit: what comes in between is told together, and what is not told is found out.
const (
	progressInterval = 200 * time.Millisecond
	lookInterval     = 5 * time.Second
)

func (s *server) registerAudits() {
	start := operation("start-audit", "POST", "/audits", "Start an audit", "audits", 422, 429)
	start.DefaultStatus = 201
	start.MaxBodyBytes = largeBody
	huma.Register(s.api, start, func(ctx context.Context, in *body[api.AuditStart]) (*body[api.Audit], error) {
		who := auth.From(ctx)
		a := &store.Audit{ByName: who.Name}
		of := store.Selection{EndpointIDs: in.Body.EndpointIDs}
		if who.Label != "" && len(of.EndpointIDs) > 0 {
			inside, err := s.Store.EndpointsHave(ctx, who.Label, slices.Clone(of.EndpointIDs))
			if err != nil {
				return nil, s.failure(err)
			}
			if !inside {
				return nil, huma.Error403Forbidden("this token is for endpoints with the label " + who.Label + " alone")
			}
		}
		of.LabelKey, of.LabelValue, _ = strings.Cut(who.Label, "=")
		err := s.Queue.Begin(ctx, a, of)
		if errors.Is(err, jobs.ErrNoEndpoints) {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		if err != nil {
			return nil, s.failure(err)
		}
		told(ctx, "audit "+strconv.FormatInt(a.ID, 10), nil, nil)
		s.Log.Info("audit started", "audit", a.ID)
		return s.auditBody(ctx, *a)
	})
	type listInput struct {
		Cursor string `query:"cursor" maxLength:"1000"`
		Limit  int    `query:"limit" minimum:"1" maximum:"200" default:"20"`
	}
	huma.Register(s.api, operation("list-audits", "GET", "/audits", "List audits, the newest first", "audits", 422),
		func(ctx context.Context, in *listInput) (*body[api.AuditPage], error) {
			list, next, err := s.Store.Audits(ctx, in.Cursor, in.Limit)
			if err != nil {
				return nil, s.failure(err)
			}
			page := api.AuditPage{Items: []api.Audit{}, Next: next}
			for _, a := range list {
				view, err := s.auditOf(ctx, a)
				if err != nil {
					return nil, s.failure(err)
				}
				page.Items = append(page.Items, view)
			}
			return &body[api.AuditPage]{page}, nil
		})
	huma.Register(s.api, operation("get-audit", "GET", "/audits/{id}", "One audit", "audits", 404),
		func(ctx context.Context, in *byID) (*body[api.Audit], error) {
			a, err := s.Store.Audit(ctx, in.ID)
			if err != nil {
				return nil, s.failure(err)
			}
			return s.auditBody(ctx, a)
		})
	huma.Register(s.api, operation("cancel-audit", "POST", "/audits/{id}/cancel",
		"Cancel an audit; what was judged until then stands", "audits", 404, 409),
		func(ctx context.Context, in *byID) (*body[api.Audit], error) {
			if _, err := s.Store.Audit(ctx, in.ID); err != nil {
				return nil, s.failure(err)
			}
			running, err := s.Queue.Cancel(ctx, in.ID)
			if err != nil {
				return nil, s.failure(err)
			}
			a, err := s.Store.Audit(ctx, in.ID)
			if err != nil {
				return nil, s.failure(err)
			}
			if !running {
				return nil, huma.Error409Conflict("the audit has ended already: it is " + string(a.State))
			}
			s.Log.Info("audit cancelled", "audit", a.ID)
			return s.auditBody(ctx, a)
		})
	events := operation("follow-audit", "GET", "/audits/{id}/events",
		"Progress of an audit as server-sent events, until it has ended", "audits", 404)
	events.Middlewares = huma.Middlewares{s.auditMustExist}
	events.Metadata = map[string]any{heavy: streams}
	sse.Register(s.api, events, map[string]any{"audit": api.Audit{}}, s.follow)
}

// auditMustExist answers before the stream of events begins.
func (s *server) auditMustExist(ctx huma.Context, next func(huma.Context)) {
	id, err := strconv.ParseInt(ctx.Param("id"), 10, 64)
	if err == nil {
		_, err = s.Store.Audit(ctx.Context(), id)
	}
	if err != nil {
		_ = huma.WriteErr(s.api, ctx, http.StatusNotFound, "there is no such record")
		return
	}
	next(ctx)
}

// follow sends the audit whenever it has changed, and at least every few seconds.
func (s *server) follow(ctx context.Context, in *byID, send sse.Sender) {
	news, leave := s.Progress.Follow(in.ID)
	defer leave()
	look := time.NewTicker(lookInterval)
	defer look.Stop()
	var last api.Audit
	sent := time.Time{}
	for {
		a, err := s.Store.Audit(ctx, in.ID)
		if err != nil {
			return
		}
		view, err := s.auditOf(ctx, a)
		if err != nil {
			return
		}
		if view.State != last.State || view.Visits != last.Visits || view.Done != last.Done ||
			view.Judged != last.Judged || time.Since(sent) >= lookInterval {
			if send.Data(view) != nil {
				return
			}
			last, sent = view, time.Now()
		}
		if view.Final() {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-look.C:
		case <-news:
			select {
			case <-ctx.Done():
				return
			case <-time.After(progressInterval):
			}
		}
	}
}

func (s *server) auditBody(ctx context.Context, a store.Audit) (*body[api.Audit], error) {
	view, err := s.auditOf(ctx, a)
	if err != nil {
		return nil, s.failure(err)
	}
	return &body[api.Audit]{view}, nil
}

func (s *server) auditOf(ctx context.Context, a store.Audit) (api.Audit, error) {
	p, err := s.Store.Summary(ctx, a)
	if err != nil {
		return api.Audit{}, err
	}
	view := api.Audit{ID: a.ID, State: string(a.State), CreatedAt: a.CreatedAt, FinishedAt: a.FinishedAt,
		Failure: a.Failure, By: a.ByName, Schedule: a.Schedule, Endpoints: p.Endpoints, Visits: p.Visits, Done: p.Done,
		Judged: p.Judged}
	counts := p.Verdicts
	view.Verdicts = api.Verdicts{Sound: counts["sound"], AtRisk: counts["at-risk"], Faulty: counts["faulty"],
		Unreachable: counts["unreachable"]}
	if a.State == store.Finished {
		unexamined, err := s.Store.Unexamined(ctx, a.ID, 100)
		if err != nil {
			return api.Audit{}, err
		}
		for _, u := range unexamined {
			view.Unexamined = append(view.Unexamined, api.Unexamined(u))
		}
	}
	return view, nil
}
