package client

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"time"

	"nurvik/internal/api"
)

// Holdings returns all holdings.
func (c *Client) Holdings(ctx context.Context) (list []api.Holding, err error) {
	return list, c.call(ctx, http.MethodGet, "/holdings", nil, &list)
}

// Holding returns a holding with its findings.
func (c *Client) Holding(ctx context.Context, id int64) (v api.HoldingView, err error) {
	return v, c.call(ctx, http.MethodGet, "/holdings/"+strconv.FormatInt(id, 10), nil, &v)
}

// FindHolding returns the holding of the name.
func (c *Client) FindHolding(ctx context.Context, name string) (api.Holding, error) {
	all, err := c.Holdings(ctx)
	for _, h := range all {
		if h.Name == name {
			return h, nil
		}
	}
	if err != nil {
		return api.Holding{}, err
	}
	return api.Holding{}, &Problem{Status: http.StatusNotFound,
		Detail: "there is no holding " + strconv.Quote(name) + "; \"nurvik holding list\" shows those there are"}
}

// ChangeHolding changes by what a holding is judged.
func (c *Client) ChangeHolding(ctx context.Context, id int64, s api.HoldingSettings) (h api.Holding, err error) {
	return h, c.call(ctx, http.MethodPatch, "/holdings/"+strconv.FormatInt(id, 10), s, &h)
}

// RemoveHolding removes a holding and its findings.
func (c *Client) RemoveHolding(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, "/holdings/"+strconv.FormatInt(id, 10), nil, nil)
}

// JudgedHolding waits until what was sent or set last of the holding is judged.
func (c *Client) JudgedHolding(ctx context.Context, id int64) (api.Holding, error) {
	for {
		// All of them, and not the one alone: a token that only collects may not read its findings.
		var list []api.Holding
		err := c.patiently(ctx, func() (err error) { // a restart of the service ends no waiting
			list, err = c.Holdings(ctx)
			return err
		})
		if err != nil {
			return api.Holding{}, err
		}
		i := slices.IndexFunc(list, func(h api.Holding) bool { return h.ID == id })
		switch {
		case i < 0:
			return api.Holding{}, &Problem{Status: http.StatusNotFound, Detail: "the holding was removed meanwhile"}
		case list[i].Failure != "":
			return list[i], fmt.Errorf("the service could not judge the holding %q: %s", list[i].Name, list[i].Failure)
		case !list[i].Waiting:
			return list[i], nil
		}
		if err := pause(ctx); err != nil {
			return list[i], err
		}
	}
}

// pause is how long the client waits before it looks again.
func pause(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(150 * time.Millisecond):
		return nil
	}
}
