package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"nurvik/internal/api"
	"nurvik/internal/service/auth"
	"nurvik/internal/service/store"
)

type activityKey struct{}

// told adds to the activity log what an operation is about, and how that was before and is after it.
func told(ctx context.Context, object string, before, after any) {
	if a, ok := ctx.Value(activityKey{}).(*store.Activity); ok {
		a.Object, a.Before, a.After = object, before, after
	}
}

// unlogged are writes that change nothing yet, since a delivery counts when it is finished, and that is written down;
// and what a worker does all the time.
var unlogged = map[string]bool{"begin-delivery": true, "send-part": true, "remove-delivery": true, "take-tasks": true,
	"put-task-result": true}

// logged writes down each change in the activity log: before it is made, so that none is missing after a kill, and
// again when it is known what became of it.
func (s *server) logged(ctx huma.Context, next func(huma.Context)) {
	operation := ctx.Operation()
	if method := ctx.Method(); method == http.MethodGet || method == http.MethodHead ||
		unlogged[operation.OperationID] {
		next(ctx)
		return
	}
	if Roles[operation.OperationID] == anyone {
		s.loggedAfter(ctx, next)
		return
	}
	who := auth.From(ctx.Context())
	a := &store.Activity{At: s.Now(), Who: who.Name, Through: who.Through, Address: who.Address,
		Operation: operation.OperationID, Object: ctx.Param("id") + ctx.Param("name")}
	if err := s.Store.BeginActivity(ctx.Context(), a); err != nil {
		ctx.SetHeader("Retry-After", "5")
		_ = huma.WriteErr(s.api, ctx, http.StatusServiceUnavailable,
			"the activity log cannot be written, so nothing was changed")
		return
	}
	next(huma.WithValue(ctx, activityKey{}, a))
	a.Status = ctx.Status()
	if a.Status == 0 {
		a.Status = operation.DefaultStatus
	}
	if err := s.Store.EndActivity(context.WithoutCancel(ctx.Context()), a); err != nil {
		s.Log.Error("the activity log could not be completed", "entry", a.ID, "error", err)
	}
}

// loggedAfter writes down how somebody signed in, or failed to. Of what is refused
// unseen nothing is kept: else strangers could fill the log.
func (s *server) loggedAfter(ctx huma.Context, next func(huma.Context)) {
	a := &store.Activity{At: s.Now(), Through: "password", Address: auth.From(ctx.Context()).Address,
		Operation: ctx.Operation().OperationID}
	next(huma.WithValue(ctx, activityKey{}, a))
	a.Who, a.Status = a.Object, ctx.Status()
	if a.Status != http.StatusOK && a.Status != http.StatusUnauthorized {
		return
	}
	if err := s.Store.BeginActivity(context.WithoutCancel(ctx.Context()), a); err != nil {
		s.Log.Error("the activity log could not be written", "error", err)
	}
}

func (s *server) registerActivity() {
	type listInput struct {
		Cursor string `query:"cursor" maxLength:"1000"`
		Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	}
	huma.Register(s.api, operation("list-activity", "GET", "/activity", "Who did what, the newest first", "people",
		422),
		func(ctx context.Context, in *listInput) (*body[api.ActivityPage], error) {
			list, next, err := s.Store.Activities(ctx, in.Cursor, in.Limit)
			if err != nil {
				return nil, s.failure(err)
			}
			page := api.ActivityPage{Items: []api.Activity{}, Next: next}
			for _, a := range list {
				page.Items = append(page.Items, api.Activity(a))
			}
			return &body[api.ActivityPage]{page}, nil
		})
}
