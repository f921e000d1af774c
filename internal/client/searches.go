package client

import (
	"context"
	"net/http"
	"strconv"

	"nurvik/internal/api"
)

// Searches are the networks that may be searched, and the searches until now.
func (c *Client) Searches(ctx context.Context) (out api.Searches, err error) {
	return out, c.call(ctx, http.MethodGet, "/searches", nil, &out)
}

// StartSearch begins a search of networks for endpoints.
func (c *Client) StartSearch(ctx context.Context, in api.SearchStart) (out api.Search, err error) {
	return out, c.call(ctx, http.MethodPost, "/searches", in, &out)
}

// Search returns one search.
func (c *Client) Search(ctx context.Context, id int64) (out api.Search, err error) {
	return out, c.call(ctx, http.MethodGet, "/searches/"+strconv.FormatInt(id, 10), nil, &out)
}

// CancelSearch ends a search; what it found until then stays.
func (c *Client) CancelSearch(ctx context.Context, id int64) (out api.Search, err error) {
	return out, c.call(ctx, http.MethodPost, "/searches/"+strconv.FormatInt(id, 10)+"/cancel", nil, &out)
}
