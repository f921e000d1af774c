package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"nurvik/internal/api"
)

// FindingFilter selects findings.
type FindingFilter struct {
	EndpointID                                   int64
	Code, Cause, Severity, State, Waived, Search string
	Owner, Label                                 string
}

// Findings returns all findings that the filter selects.
func (c *Client) Findings(ctx context.Context, f FindingFilter) ([]api.Finding, error) {
	q := given(map[string]string{"code": f.Code, "cause": f.Cause, "severity": f.Severity, "state": f.State,
		"waived": strings.ToLower(f.Waived), "q": f.Search, "owner": f.Owner, "label": f.Label})
	if f.EndpointID != 0 {
		q.Set("endpoint_id", strconv.FormatInt(f.EndpointID, 10))
	}
	return all[api.Finding](ctx, c, "/findings", q)
}

// CauseFilter selects causes by their findings.
type CauseFilter struct {
	Code, Severity, Search string
	Owner, Label           string
	Waived                 bool // only what is waived, otherwise only what counts
}

// Causes returns what present findings have in common, the worst first.
func (c *Client) Causes(ctx context.Context, f CauseFilter) ([]api.Cause, error) {
	q := given(map[string]string{"code": f.Code, "severity": f.Severity, "q": f.Search, "owner": f.Owner,
		"label": f.Label})
	if f.Waived {
		q.Set("waived", "true")
	}
	return all[api.Cause](ctx, c, "/causes", q)
}

// History returns what has changed at an endpoint from audit to audit, the newest first.
func (c *Client) History(ctx context.Context, endpoint int64) ([]api.HistoryEntry, error) {
	return all[api.HistoryEntry](ctx, c, "/endpoints/"+strconv.FormatInt(endpoint, 10)+"/history",
		url.Values{"limit": {"100"}})
}

// Difference returns what has changed at an endpoint from one audit to another; 0 is the newest.
func (c *Client) Difference(ctx context.Context, endpoint, from, to int64) (e api.HistoryEntry, err error) {
	path := fmt.Sprintf("/endpoints/%d/history/difference?from=%d&to=%d", endpoint, from, to)
	return e, c.call(ctx, "GET", path, nil, &e)
}

// given are the parameters that are not empty, for pages as long as may be.
func given(values map[string]string) url.Values {
	q := url.Values{"limit": {"1000"}}
	for key, value := range values {
		if value != "" {
			q.Set(key, value)
		}
	}
	return q
}

// all gathers every page of a list.
func all[T any](ctx context.Context, c *Client, path string, q url.Values) ([]T, error) {
	out := []T{}
	for {
		var page struct {
			Items []T    `json:"items"`
			Next  string `json:"next"`
		}
		if err := c.call(ctx, http.MethodGet, path+"?"+q.Encode(), nil, &page); err != nil {
			return nil, err
		}
		out = append(out, page.Items...)
		if page.Next == "" {
			return out, nil
		}
		q.Set("cursor", page.Next)
	}
}
