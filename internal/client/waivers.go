package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"nurvik/internal/api"
)

// Acknowledge says that the caller has seen a finding.
func (c *Client) Acknowledge(ctx context.Context, id, note string) (f api.Finding, err error) {
	return f, c.call(ctx, http.MethodPut, "/findings/"+url.PathEscape(id)+"/acknowledgement",
		api.AcknowledgementNote{Note: note}, &f)
}

// ForgetAcknowledgement takes that back.
func (c *Client) ForgetAcknowledgement(ctx context.Context, id string) (f api.Finding, err error) {
	return f, c.call(ctx, http.MethodDelete, "/findings/"+url.PathEscape(id)+"/acknowledgement", nil, &f)
}

// Waivers returns what people waive, the first to end in front.
func (c *Client) Waivers(ctx context.Context) (list []api.Waiver, err error) {
	return list, c.call(ctx, http.MethodGet, "/waivers", nil, &list)
}

// AddWaiver waives findings of a code.
func (c *Client) AddWaiver(ctx context.Context, in api.WaiverStart) (w api.Waiver, err error) {
	return w, c.call(ctx, http.MethodPost, "/waivers", in, &w)
}

// RemoveWaiver takes a waiver back.
func (c *Client) RemoveWaiver(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, "/waivers/"+strconv.FormatInt(id, 10), nil, nil)
}
