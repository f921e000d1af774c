package web

import (
	"context"
	"errors"

	"github.com/danielgtaylor/huma/v2"

	"nurvik/core/plain"
	"nurvik/internal/api"
	"nurvik/internal/service/auth"
	"nurvik/internal/service/jobs"
	"nurvik/internal/service/remote"
)

func (s *server) registerRemote() {
	begin := operation("begin-remote-work", "POST", "/remote-workers",
		"Begin to visit for the vantage that the token is for", "workers", 409, 422)
	begin.DefaultStatus = 201
	huma.Register(s.api, begin, func(ctx context.Context, in *body[api.RemoteStart]) (*body[api.RemoteWork], error) {
		who := auth.From(ctx)
		if who.Vantage == "" {
			return nil, huma.Error403Forbidden("this needs a token of the role worker, which says from where it visits")
		}
		for field, text := range map[string]string{"name": in.Body.Name, "host": in.Body.Host,
			"version": in.Body.Version} {
			if err := plain.Check(text, false); err != nil {
				return nil, invalid([]error{&huma.ErrorDetail{Message: err.Error(), Location: "body." + field}})
			}
		}
		work, err := s.Remote.Start(ctx, who.Token, who.Vantage, in.Body)
		if err != nil {
			return nil, s.remoteFailure(err)
		}
		told(ctx, who.Vantage, nil, in.Body)
		return &body[api.RemoteWork]{work}, nil
	})
	type takeInput struct {
		Session string `path:"session" maxLength:"100"`
		Body    api.TaskWish
	}
	huma.Register(s.api, operation("take-tasks", "POST", "/remote-workers/{session}/tasks",
		"Take tasks; without any it answers after ten seconds with none", "workers", 404, 422),
		func(ctx context.Context, in *takeInput) (*body[[]api.Task], error) {
			tasks, err := s.Remote.Take(ctx, auth.From(ctx).Token, in.Session, in.Body)
			if err != nil {
				return nil, s.remoteFailure(err)
			}
			if tasks == nil {
				tasks = []api.Task{}
			}
			return &body[[]api.Task]{tasks}, nil
		})
	type putInput struct {
		Session string `path:"session" maxLength:"100"`
		Body    api.TaskResult
	}
	put := operation("put-task-result", "POST", "/remote-workers/{session}/results",
		"Say what came of a task; one that nobody waits for any more is dropped", "workers", 404, 422)
	put.MaxBodyBytes, put.Metadata = resultBody, map[string]any{heavy: results}
	huma.Register(s.api, put, func(ctx context.Context, in *putInput) (*struct{}, error) {
		return nil, s.remoteFailure(s.Remote.Put(auth.From(ctx).Token, in.Session, in.Body))
	})
	type endInput struct {
		Session string `path:"session" maxLength:"100"`
	}
	huma.Register(s.api, operation("end-remote-work", "DELETE", "/remote-workers/{session}",
		"Take no more tasks; results of those that were taken are waited for", "workers", 404),
		func(ctx context.Context, in *endInput) (*struct{}, error) {
			told(ctx, auth.From(ctx).Vantage, nil, nil)
			return nil, s.remoteFailure(s.Remote.End(auth.From(ctx).Token, in.Session))
		})
}

// remoteFailure is what a worker is told.
func (s *server) remoteFailure(err error) error {
	var unfit *remote.UnfitError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &unfit):
		return invalid([]error{&huma.ErrorDetail{Message: unfit.Error(), Location: "body"}})
	case errors.Is(err, remote.ErrUnknown):
		return huma.Error404NotFound(err.Error())
	case errors.Is(err, remote.ErrOther), errors.Is(err, remote.ErrFull), errors.Is(err, remote.ErrMany),
		errors.Is(err, jobs.ErrNameTaken):
		return huma.Error409Conflict(err.Error())
	}
	return s.failure(err)
}
