package web

import (
	"bytes"
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"nurvik/core/endpoint"
	"nurvik/core/lifetime"
	"nurvik/core/naming"
	"nurvik/core/pki"
	"nurvik/core/trust"
	"nurvik/internal/api"
	"nurvik/internal/report"
	"nurvik/internal/service/expiry"
	"nurvik/internal/service/store"
)

// DueInput selects what ends.
type DueInput struct {
	Search string `query:"q" maxLength:"200" doc:"Part of a name, the subject, the issuer, an endpoint or a holding"`
	Kind   string `query:"kind" enum:"leaf,intermediate,anchor"`
	State  string `query:"state" enum:"expired,expires-soon,renewal-due,in-date,not-yet-valid"`
	From   string `query:"from" maxLength:"10" doc:"The first day, such as 2026-12-01"`
	Until  string `query:"until" maxLength:"10" doc:"The last day"`
	Renew  string `query:"renew" maxLength:"20" default:"1/3" doc:"When leaves are due: days such as 30d, or a share of the lifetime such as 1/3"`
}

// query is what the input means.
func (in *DueInput) query(now time.Time) (q expiry.Query, err error) {
	q = expiry.Query{Search: in.Search, Kind: lifetime.Kind(in.Kind), State: in.State, At: now}
	wrong := func(field string, err error) error {
		return huma.Error422UnprocessableEntity("it cannot be asked so", &huma.ErrorDetail{Message: err.Error(),
			Location: "query." + field})
	}
	if q.Renewal, err = lifetime.ParseRenewal(in.Renew); err != nil {
		return q, wrong("renew", err)
	}
	if in.From != "" {
		if q.From, err = time.Parse(time.DateOnly, in.From); err != nil {
			return q, wrong("from", fmt.Errorf("%q is no day; write 2026-12-01", in.From))
		}
	}
	if in.Until != "" {
		if q.Until, err = time.Parse(time.DateOnly, in.Until); err != nil {
			return q, wrong("until", fmt.Errorf("%q is no day; write 2026-12-01", in.Until))
		}
		q.Until = q.Until.AddDate(0, 0, 1).Add(-time.Second)
	}
	return q, nil
}

func (s *server) registerExpiry() {
	desk := &expiry.Desk{Store: s.Store, Roots: s.roots}
	type listInput struct {
		DueInput
		Cursor string `query:"cursor" maxLength:"100"`
		Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	}
	huma.Register(s.api, operation("list-expiry", "GET", "/expiry", "List what ends, the first in front", "expiry",
		422),
		func(ctx context.Context, in *listInput) (*body[api.DuePage], error) {
			q, err := in.query(s.Now())
			if err != nil {
				return nil, err
			}
			from := 0
			if in.Cursor != "" {
				if from, err = strconv.Atoi(in.Cursor); err != nil || from < 0 {
					return nil, s.failure(store.ErrCursor)
				}
			}
			page, more, err := desk.List(ctx, q, from, in.Limit)
			if err != nil {
				return nil, s.failure(err)
			}
			if more {
				page.Next = strconv.Itoa(from + in.Limit)
			}
			return &body[api.DuePage]{page}, nil
		})
	huma.Register(s.api, operation("get-timeline", "GET", "/expiry/timeline", "Count what ends on each day", "expiry",
		422),
		func(ctx context.Context, in *DueInput) (*body[api.Timeline], error) {
			q, err := in.query(s.Now())
			if err != nil {
				return nil, err
			}
			first, last := q.From, q.Until
			if first.IsZero() {
				first = q.At.UTC().AddDate(0, 0, -30)
			}
			if last.IsZero() {
				last = first.AddDate(1, 2, 0)
			}
			if last.Before(first) || last.After(first.AddDate(20, 0, 0)) {
				return nil, huma.Error422UnprocessableEntity(
					"a timeline has up to twenty years, and its last day is not before its first")
			}
			q.From, q.Until = time.Time{}, time.Time{} // what lies outside is counted
			t, err := desk.Timeline(ctx, q, first, last)
			if err != nil {
				return nil, s.failure(err)
			}
			return &body[api.Timeline]{t}, nil
		})
	type forecastInput struct {
		DueInput
		Minutes int `query:"minutes" minimum:"1" maximum:"100000" default:"30" doc:"Of work for a renewal"`
	}
	huma.Register(s.api, operation("get-forecast", "GET", "/expiry/forecast",
		"Say how many renewals each month brings until December 2029", "expiry", 422),
		func(ctx context.Context, in *forecastInput) (*body[lifetime.Forecast], error) {
			q, err := in.query(s.Now())
			if err != nil {
				return nil, err
			}
			f, err := desk.Forecast(ctx, q, time.Date(2030, 1, 1, 0, 0, 0, 0, time.UTC), in.Minutes)
			if err != nil {
				return nil, s.failure(err)
			}
			return &body[lifetime.Forecast]{f}, nil
		})
	calendar := operation("get-calendar", "GET", "/expiry/calendar", "A calendar to subscribe to (RFC 5545)", "expiry",
		422)
	calendar.Responses = map[string]*huma.Response{"200": {Description: "The calendar",
		Content: map[string]*huma.MediaType{"text/calendar": {Schema: &huma.Schema{Type: "string"}}}}}
	type calendarOutput struct {
		ContentType string `header:"Content-Type"`
		Body        []byte
	}
	huma.Register(s.api, calendar, func(ctx context.Context, in *DueInput) (*calendarOutput, error) {
		q, err := in.query(s.Now())
		if err != nil {
			return nil, err
		}
		dues, err := desk.Dues(ctx, q)
		if err != nil {
			return nil, s.failure(err)
		}
		var out bytes.Buffer
		if err := report.Calendar(&out, dues); err != nil {
			return nil, s.failure(err)
		}
		return &calendarOutput{"text/calendar; charset=utf-8", out.Bytes()}, nil
	})
	s.registerCoverage()
}

// roots are the trust stores of the estate, and the system's.
func (s *server) roots(ctx context.Context) ([]*trust.Store, error) {
	rows, err := s.Store.TrustStores(ctx)
	if err != nil {
		return nil, err
	}
	var out []*trust.Store
	for _, r := range rows {
		out = append(out, r.Trusted())
	}
	if system, err := (&trust.Loader{}).System(); err == nil { // without one nothing is public
		out = append(out, system)
	}
	return out, nil
}

// mostCertificates is with how many certificates names are compared at once.
const mostCertificates = 1000

func (s *server) registerCoverage() {
	type coverInput struct {
		Names    []string `query:"name,explode" required:"true" minItems:"1" maxItems:"1000" doc:"A name that is needed; repeat for more"`
		Endpoint int64    `query:"endpoint_id" minimum:"0" doc:"Compare with what this endpoint serves, instead of the whole estate"`
	}
	huma.Register(s.api, operation("get-coverage", "GET", "/coverage", "Compare needed names with certificates",
		"expiry", 422),
		func(ctx context.Context, in *coverInput) (*body[api.Coverage], error) {
			var needed []naming.Reference
			for i, name := range in.Names {
				r, err := naming.ParseIdentity(name)
				if err != nil {
					return nil, huma.Error422UnprocessableEntity("a name is none",
						&huma.ErrorDetail{Message: err.Error(),
							Location: fmt.Sprintf("query.name[%d]", i)})
				}
				needed = append(needed, r)
			}
			c, err := s.coverage(ctx, needed, in.Endpoint)
			if err != nil {
				return nil, s.failure(err)
			}
			return &body[api.Coverage]{c}, nil
		})
	huma.Register(s.api, operation("get-endpoint-coverage", "GET", "/endpoints/{id}/coverage",
		"Compare the names that an endpoint needs with what it serves", "estate", 404),
		func(ctx context.Context, in *byID) (*body[api.Coverage], error) {
			e, err := s.Store.Endpoint(ctx, in.ID)
			if err != nil {
				return nil, s.failure(err)
			}
			needed := e.Settings.References()
			if parsed, err := endpoint.Parse(e.Target); err == nil && len(needed) == 0 {
				if r, err := naming.Parse(parsed.Host); err == nil {
					needed = []naming.Reference{r}
				}
			}
			c, err := s.coverage(ctx, needed, in.ID)
			if err != nil {
				return nil, s.failure(err)
			}
			return &body[api.Coverage]{c}, nil
		})
}

// coverage compares the names with the leaves of an endpoint, or with those of the estate that may cover them.
func (s *server) coverage(ctx context.Context, needed []naming.Reference, id int64) (api.Coverage, error) {
	var near []string
	for _, r := range needed {
		name := r.String()
		near = append(near, name, "www."+name, strings.TrimPrefix(name, "www."))
		if _, parent, ok := strings.Cut(name, "."); ok && !r.IsAddress() {
			near = append(near, "*."+parent, parent, "*."+name)
		}
	}
	rows, err := s.Store.Leaves(ctx, near, id, mostCertificates)
	if err != nil {
		return api.Coverage{}, err
	}
	columns := []naming.Column{}
	for _, row := range rows {
		if c, err := pki.ParseCertificate(row.DER); err == nil && (!c.IsCA() || id != 0 && c.SelfIssued()) {
			columns = append(columns, naming.NewColumn(row.Place, c))
		}
	}
	m := naming.Compare(needed, columns)
	return api.Coverage{Covered: m.Covers(), Matrix: *m}, nil
}
