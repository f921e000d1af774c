// Package client calls the service's HTTP API.
package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"time"

	"nurvik/core/plain"
	"nurvik/internal/api"
)

// Client speaks to one service. It is safe for concurrent use.
type Client struct {
	base  string
	token string
	open  error // why no secret may be sent there; nil where it may
	http  *http.Client

	cookie *http.Cookie // of a session that was begun; nil without one

	tag string // that what is changed must have; "" for any
}

// If is a client that changes and removes only what still has the tag, as it was read; else the error is a *Problem of
// the status 412.
func (c *Client) If(tag string) *Client {
	other := *c
	other.tag = tag
	return &other
}

// New makes a client of the service at the address; the token may be empty.
func New(address, token string) (*Client, error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return nil, fmt.Errorf("%q is no address of a service: write http://HOST:PORT", address)
	}
	var open error
	if u.Scheme == "http" && !isLoopback(u.Hostname()) {
		open = fmt.Errorf("no token and no password is sent to %s over plain HTTP, where others can read it: use "+
			"https, or a service on this machine", u.Host)
	}
	if token != "" && open != nil {
		return nil, open
	}
	return &Client{base: strings.TrimSuffix(address, "/"), token: token, open: open, http: &http.Client{
		Transport: &http.Transport{
			Proxy: http.ProxyFromEnvironment, DialContext: (&net.Dialer{Timeout: connectTime}).DialContext,
			TLSHandshakeTimeout: connectTime, ResponseHeaderTimeout: answerTime, MaxResponseHeaderBytes: 64 << 10,
			IdleConnTimeout: time.Minute, MaxIdleConnsPerHost: 4,
		},
		CheckRedirect: func(*http.Request, []*http.Request) error {
			return errors.New("the service sends elsewhere; name its own address")
		},
	}}, nil
}

// Limits of a call.
const (
	connectTime = 10 * time.Second
	answerTime  = 2 * time.Minute // until an answer begins: taking in a large estate takes a while
	mostAnswer  = 1 << 30         // bytes of an answer: a whole estate with its trust stores
	mostProblem = 1 << 20         // bytes of a refusal
)

// isLoopback reports whether the host is this machine, by an address that
// leads nowhere else or the name that stands for it (RFC 6761, 6.3).
func isLoopback(host string) bool {
	if address, err := netip.ParseAddr(host); err == nil {
		return address.IsLoopback()
	}
	return strings.EqualFold(host, "localhost")
}

// Problem is what the service answers when it refuses (RFC 9457).
type Problem struct {
	Status int             `json:"status"`
	Title  string          `json:"title"`
	Detail string          `json:"detail"`
	Errors []ProblemDetail `json:"errors"`
}

// ProblemDetail is one defect and its place in the request.
type ProblemDetail struct {
	Message  string `json:"message"`
	Location string `json:"location"`
}

func (p *Problem) Error() string {
	text := p.Detail
	if text == "" {
		text = fmt.Sprintf("the service answered %d %s", p.Status, p.Title)
	}
	for _, d := range p.Errors {
		text += "\n  " + d.Message
		if d.Location != "" {
			text += " (" + d.Location + ")"
		}
	}
	return text
}

// IsNotFound reports whether the service knows no such record.
func IsNotFound(err error) bool {
	var p *Problem
	return errors.As(err, &p) && p.Status == http.StatusNotFound
}

// IsUnknown reports whether the service does not know who is calling.
func IsUnknown(err error) bool {
	var p *Problem
	return errors.As(err, &p) && p.Status == http.StatusUnauthorized
}

func (c *Client) request(ctx context.Context, method, path string, in any) (*http.Response, error) {
	var data []byte
	if in != nil {
		var err error
		if data, err = json.Marshal(in); err != nil {
			return nil, err
		}
	}
	return c.send(ctx, method, path, "application/json", data)
}

// send makes a request with a body of the type.
func (c *Client) send(ctx context.Context, method, path, kind string, data []byte) (*http.Response, error) {
	var body io.Reader
	if data != nil {
		body = bytes.NewReader(data)
	}
	r, err := http.NewRequestWithContext(ctx, method, c.base+api.Base+path, body)
	if err != nil {
		return nil, err
	}
	if method != http.MethodGet {
		r.Header.Set("Content-Type", kind)
	}
	if c.tag != "" {
		r.Header.Set("If-Match", `"`+c.tag+`"`)
	}
	if c.token != "" {
		r.Header.Set("Authorization", "Bearer "+c.token)
	}
	if c.cookie != nil {
		r.AddCookie(&http.Cookie{Name: c.cookie.Name, Value: c.cookie.Value})
	}
	response, err := c.http.Do(r)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil,
			fmt.Errorf("the service at %s does not answer: %w; start it with \"nurvikd serve\", or name another "+
				"with --server", c.base, errors.Unwrap(err))
	}
	if response.StatusCode < 300 {
		return response, nil
	}
	defer response.Body.Close()
	p := &Problem{Status: response.StatusCode, Title: http.StatusText(response.StatusCode)}
	// what is no problem document has its status still
	_ = json.NewDecoder(io.LimitReader(response.Body, mostProblem)).Decode(p)
	return nil, p
}

func (c *Client) call(ctx context.Context, method, path string, in, out any) error {
	response, err := c.request(ctx, method, path, in)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if out == nil {
		return nil
	}
	if err := json.NewDecoder(io.LimitReader(response.Body, mostAnswer)).Decode(out); err != nil {
		return fmt.Errorf("the answer of %s cannot be read: %w; is it a Nurvik service of this version?", c.base, err)
	}
	plain.CleanLinesIn(out) // a service is trusted with the estate, and not with the terminal
	return nil
}

// EndpointFilter selects endpoints.
type EndpointFilter struct{ Search, Verdict, Sort, Owner, Label, Policy string }

// Endpoints returns all endpoints that the filter selects.
func (c *Client) Endpoints(ctx context.Context, f EndpointFilter) ([]api.Endpoint, error) {
	q := url.Values{"limit": {"1000"}}
	for key, value := range map[string]string{"q": f.Search, "verdict": f.Verdict, "sort": f.Sort,
		"owner": f.Owner, "label": f.Label, "policy": f.Policy} {
		if value != "" {
			q.Set(key, value)
		}
	}
	return all[api.Endpoint](ctx, c, "/endpoints", q)
}

// FindEndpoint returns the endpoint of the target.
func (c *Client) FindEndpoint(ctx context.Context, target string) (api.Endpoint, error) {
	found, err := c.Endpoints(ctx, EndpointFilter{Search: target})
	if err != nil {
		return api.Endpoint{}, err
	}
	for _, e := range found {
		if e.Endpoint == target {
			return e, nil
		}
	}
	return api.Endpoint{}, &Problem{Status: http.StatusNotFound,
		Detail: target + " is not in the estate; \"nurvik estate list\" shows what is"}
}

// Examination returns the endpoint with its latest facts, judgement and findings.
func (c *Client) Examination(ctx context.Context, id int64) (x api.Examination, err error) {
	return x, c.call(ctx, http.MethodGet, "/endpoints/"+strconv.FormatInt(id, 10), nil, &x)
}

// AddEndpoint adds an endpoint.
func (c *Client) AddEndpoint(ctx context.Context, s api.EndpointSettings) (e api.Endpoint, err error) {
	return e, c.call(ctx, http.MethodPost, "/endpoints", s, &e)
}

// ChangeEndpoint replaces the endpoint's settings.
func (c *Client) ChangeEndpoint(ctx context.Context, id int64, s api.EndpointSettings) (e api.Endpoint, err error) {
	return e, c.call(ctx, http.MethodPut, "/endpoints/"+strconv.FormatInt(id, 10), s, &e)
}

// BulkChange changes many endpoints at once, or says what would change.
func (c *Client) BulkChange(ctx context.Context, in api.BulkChange) (out api.BulkResult, err error) {
	return out, c.call(ctx, http.MethodPost, "/estate/changes", in, &out)
}

// RemoveEndpoint removes the endpoint with its history.
func (c *Client) RemoveEndpoint(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, "/endpoints/"+strconv.FormatInt(id, 10), nil, nil)
}

// ForgetUnfinishedLogins counts connections to the endpoint's database server from zero again.
func (c *Client) ForgetUnfinishedLogins(ctx context.Context, id int64) (f api.Forgotten, err error) {
	return f, c.call(ctx, http.MethodDelete, "/endpoints/"+strconv.FormatInt(id, 10)+"/unfinished-logins", nil, &f)
}

// Export returns the whole estate.
func (c *Client) Export(ctx context.Context) (e api.Estate, err error) {
	return e, c.call(ctx, http.MethodGet, "/estate", nil, &e)
}

// StartAudit starts an audit.
func (c *Client) StartAudit(ctx context.Context, s api.AuditStart) (a api.Audit, err error) {
	return a, c.call(ctx, http.MethodPost, "/audits", s, &a)
}

// Audit returns one audit.
func (c *Client) Audit(ctx context.Context, id int64) (a api.Audit, err error) {
	return a, c.call(ctx, http.MethodGet, "/audits/"+strconv.FormatInt(id, 10), nil, &a)
}

// Audits returns the newest audits.
func (c *Client) Audits(ctx context.Context, limit int) ([]api.Audit, error) {
	var page api.AuditPage
	return page.Items, c.call(ctx, http.MethodGet, "/audits?limit="+strconv.Itoa(limit), nil, &page)
}

// CancelAudit cancels a running audit.
func (c *Client) CancelAudit(ctx context.Context, id int64) (a api.Audit, err error) {
	return a, c.call(ctx, http.MethodPost, "/audits/"+strconv.FormatInt(id, 10)+"/cancel", nil, &a)
}

// Follow calls each for every change of the audit until it has ended, and
// returns it as it ended.
func (c *Client) Follow(ctx context.Context, id int64, each func(api.Audit)) (api.Audit, error) {
	response, err := c.request(ctx, http.MethodGet, "/audits/"+strconv.FormatInt(id, 10)+"/events", nil)
	if err != nil {
		return api.Audit{}, err
	}
	defer response.Body.Close()
	var last api.Audit
	lines := bufio.NewScanner(response.Body)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		if err := json.Unmarshal([]byte(data), &last); err != nil {
			return last, fmt.Errorf("the events of %s cannot be read: %w", c.base, err)
		}
		if each != nil {
			each(last)
		}
	}
	switch {
	case last.Final():
		return last, nil
	case ctx.Err() != nil:
		return last, ctx.Err()
	}
	return last,
		fmt.Errorf("the service ended the stream before audit %d had ended; it may have been restarted, and the "+
			"audit goes on", id)
}
