package client

import (
	"context"
	"net/http"

	"nurvik/internal/api"
)

// Workers returns the processes that visit and judge, by name.
func (c *Client) Workers(ctx context.Context) (list []api.Worker, err error) {
	return list, c.call(ctx, http.MethodGet, "/workers", nil, &list)
}
