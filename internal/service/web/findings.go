package web

import (
	"context"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"nurvik/core/judge"
	"nurvik/internal/api"
	"nurvik/internal/service/store"
)

func (s *server) registerFindings() {
	type listInput struct {
		EndpointID int64  `query:"endpoint_id" minimum:"1"`
		HoldingID  int64  `query:"holding_id" minimum:"1"`
		Code       string `query:"code" maxLength:"100"`
		Cause      string `query:"cause" maxLength:"100"`
		Severity   string `query:"severity" enum:"fault,risk,note,none"`
		State      string `query:"state" enum:"new,standing,gone,back" doc:"None means all that are not gone"`
		Waived     string `query:"waived" enum:"yes,no" doc:"None means both"`
		Search     string `query:"q" maxLength:"200" doc:"Part of the endpoint, the holding, the path or the message"`
		Owner      string `query:"owner" maxLength:"200" doc:"Of endpoints of this owner"`
		Label      string `query:"label" maxLength:"300" doc:"Of endpoints with this label, KEY=VALUE"`
		Cursor     string `query:"cursor" maxLength:"2000"`
		Limit      int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	}
	huma.Register(s.api, operation("list-findings", "GET", "/findings", "List findings, the worst first", "findings",
		422),
		func(ctx context.Context, in *listInput) (*body[api.FindingPage], error) {
			of, err := ofLabel(ctx, in.Label)
			if err != nil {
				return nil, err
			}
			list, next, err := s.Store.Findings(ctx, store.FindingQuery{Owner: in.Owner, Label: of,
				EndpointID: in.EndpointID,
				HoldingID:  in.HoldingID, Code: in.Code, Cause: in.Cause, Severity: in.Severity,
				State: in.State, Waived: in.Waived, Search: in.Search, After: in.Cursor, Limit: in.Limit})
			if err != nil {
				return nil, s.failure(err)
			}
			return &body[api.FindingPage]{api.FindingPage{Items: findingsOf(list), Next: next}}, nil
		})
	type causesInput struct {
		Code     string `query:"code" maxLength:"100"`
		Severity string `query:"severity" enum:"fault,risk,note,none"`
		Waived   bool   `query:"waived" doc:"Of what is waived, instead of what counts"`
		Search   string `query:"q" maxLength:"200" doc:"Part of an endpoint, a holding, a path or a message"`
		Owner    string `query:"owner" maxLength:"200" doc:"At endpoints of this owner"`
		Label    string `query:"label" maxLength:"300" doc:"At endpoints with this label, KEY=VALUE"`
		Cursor   string `query:"cursor" maxLength:"2000"`
		Limit    int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	}
	huma.Register(s.api, operation("list-causes", "GET", "/causes",
		"What present findings have in common, the worst first, and of those what is at the most places",
		"findings", 422),
		func(ctx context.Context, in *causesInput) (*body[api.CausePage], error) {
			of, err := ofLabel(ctx, in.Label)
			if err != nil {
				return nil, err
			}
			list, next, err := s.Store.Causes(ctx, store.CauseQuery{Code: in.Code, Severity: in.Severity,
				Waived: in.Waived, Owner: in.Owner, Label: of,
				Search: in.Search, After: in.Cursor, Limit: in.Limit})
			if err != nil {
				return nil, s.failure(err)
			}
			return &body[api.CausePage]{api.CausePage{Items: causesOf(list), Next: next}}, nil
		})
	huma.Register(s.api, operation("list-codes", "GET", "/catalogue", "Every code with its explanation", "findings"),
		func(context.Context, *struct{}) (*body[[]judge.Entry], error) {
			return &body[[]judge.Entry]{judge.Catalogue()}, nil
		})
}

func findingsOf(rows []store.FindingRow) []api.Finding {
	out := []api.Finding{}
	for _, r := range rows {
		f := api.Finding{ID: r.ID, EndpointID: r.EndpointID, Endpoint: r.Target, Owner: r.Owner, HoldingID: r.HoldingID,
			Holding: r.Holding, Path: r.Path,
			Finding: r.Finding.Finding, State: string(r.State), FirstSeen: r.FirstSeen, LastSeen: r.LastSeen,
			GoneAt: r.GoneAt, Acknowledged: r.Acknowledged, Cause: r.Cause}
		if e, err := judge.Explain(r.Code); err == nil {
			f.Title, f.Why, f.Reference = e.Title, e.Why, e.Reference
		}
		out = append(out, f)
	}
	return out
}

func causesOf(rows []store.Cause) []api.Cause {
	out := make([]api.Cause, len(rows))
	for i, r := range rows {
		out[i] = api.Cause{ID: r.Cause, Code: r.Code, Severity: judge.Severity(r.Severity), About: r.CauseAbout,
			Findings: r.Findings, Endpoints: r.Endpoints, Holdings: r.Holdings, Acknowledged: r.Acknowledged,
			FirstSeen: r.FirstSeen, Message: r.Message, Remedy: r.Remedy}
		if e, err := judge.Explain(r.Code); err == nil {
			out[i].Title, out[i].Why = e.Title, e.Why
			if r.Remedy == "" {
				out[i].Remedy = strings.TrimSpace(e.Remedy)
			}
		}
	}
	return out
}

// examination gathers an endpoint with its latest facts, judgement and findings.
func (s *server) examination(ctx context.Context, id int64) (api.Examination, error) {
	e, err := s.Store.Endpoint(ctx, id)
	if err != nil {
		return api.Examination{}, err
	}
	x := api.Examination{Endpoint: endpointOf(e), Findings: []api.Finding{}}
	latest, err := s.Store.LatestExamination(ctx, e)
	if err != nil {
		return x, err
	}
	if latest != nil {
		x.Judgement, x.Facts = latest.Judgement, latest.Facts
	}
	rows, _, err := s.Store.Findings(ctx, store.FindingQuery{EndpointID: id, Limit: 1000})
	if e.Provisional && x.Judgement != nil {
		rows = store.Provisionally(e, x.Facts, *x.Judgement, rows)
	}
	x.Findings = findingsOf(rows)
	return x, err
}
