package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"nurvik/internal/api"
)

// Policies returns all policies.
func (c *Client) Policies(ctx context.Context) (list []api.Policy, err error) {
	return list, c.call(ctx, http.MethodGet, "/policies", nil, &list)
}

// Policy returns a policy with its text, the newest for version 0.
func (c *Client) Policy(ctx context.Context, name string, version int) (p api.PolicyText, err error) {
	path := "/policies/" + url.PathEscape(name)
	if version > 0 {
		path += "?version=" + strconv.Itoa(version)
	}
	return p, c.call(ctx, http.MethodGet, path, nil, &p)
}

// SavePolicy keeps a new version of a policy.
func (c *Client) SavePolicy(ctx context.Context, name, text string) (p api.PolicyText, err error) {
	return p, c.call(ctx, http.MethodPut, "/policies/"+url.PathEscape(name), api.PolicySave{Text: text}, &p)
}

// RemovePolicy removes a policy.
func (c *Client) RemovePolicy(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/policies/"+url.PathEscape(name), nil, nil)
}

// WhatIf asks, waits for the answer and returns it with all that would change.
func (c *Client) WhatIf(ctx context.Context, s api.WhatIfStart) (v api.WhatIfView, err error) {
	var w api.WhatIf
	if err := c.call(ctx, http.MethodPost, "/what-ifs", s, &w); err != nil {
		return v, err
	}
	for {
		if v, err = c.GetWhatIf(ctx, w.ID); err != nil || v.State != "judging" {
			return v, err
		}
		if err := pause(ctx); err != nil {
			return v, err
		}
	}
}

// GetWhatIf returns one what-if.
func (c *Client) GetWhatIf(ctx context.Context, id int64) (v api.WhatIfView, err error) {
	return v, c.call(ctx, http.MethodGet, "/what-ifs/"+strconv.FormatInt(id, 10), nil, &v)
}

// WhatIfs returns the newest what-ifs.
func (c *Client) WhatIfs(ctx context.Context, limit int) ([]api.WhatIf, error) {
	var page api.WhatIfPage
	return page.Items, c.call(ctx, http.MethodGet, "/what-ifs?limit="+strconv.Itoa(limit), nil, &page)
}

// RemoveWhatIf removes one.
func (c *Client) RemoveWhatIf(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, "/what-ifs/"+strconv.FormatInt(id, 10), nil, nil)
}
