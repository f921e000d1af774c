package client

import (
	"context"
	"net/http"

	"nurvik/internal/api"
)

// BeginRemoteWork begins to visit for the vantage of the token.
func (c *Client) BeginRemoteWork(ctx context.Context, in api.RemoteStart) (w api.RemoteWork, err error) {
	return w, c.call(ctx, http.MethodPost, "/remote-workers", in, &w)
}

// TakeTasks takes tasks; there may be none.
func (c *Client) TakeTasks(ctx context.Context, session string, wish api.TaskWish) (list []api.Task, err error) {
	return list, c.call(ctx, http.MethodPost, "/remote-workers/"+session+"/tasks", wish, &list)
}

// PutTaskResult says what came of a task.
func (c *Client) PutTaskResult(ctx context.Context, session string, r api.TaskResult) error {
	return c.call(ctx, http.MethodPost, "/remote-workers/"+session+"/results", r, nil)
}

// EndRemoteWork takes no more tasks.
func (c *Client) EndRemoteWork(ctx context.Context, session string) error {
	return c.call(ctx, http.MethodDelete, "/remote-workers/"+session, nil, nil)
}
