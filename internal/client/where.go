package client

import (
	"context"
	"net/http"
	"net/url"

	"nurvik/internal/api"
)

// Where finds every place of a certificate, key or name that the service knows, now and before.
func (c *Client) Where(ctx context.Context, what string) (w api.Where, err error) {
	return w, c.call(ctx, http.MethodGet, "/where?"+url.Values{"what": {what}}.Encode(), nil, &w)
}
