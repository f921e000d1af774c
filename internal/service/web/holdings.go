package web

import (
	"context"
	"fmt"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"nurvik/core/endpoint"
	"nurvik/core/facts"
	"nurvik/core/inventory"
	"nurvik/internal/api"
	"nurvik/internal/service/store"
)

func (s *server) registerHoldings() {
	huma.Register(s.api, operation("list-holdings", "GET", "/holdings", "List holdings, by name", "holdings"),
		func(ctx context.Context, _ *struct{}) (*body[[]api.Holding], error) {
			list, err := s.Store.Holdings(ctx)
			if err != nil {
				return nil, s.failure(err)
			}
			out := []api.Holding{}
			for _, h := range list {
				out = append(out, holdingOf(h))
			}
			return &body[[]api.Holding]{out}, nil
		})
	huma.Register(s.api, operation("get-holding", "GET", "/holdings/{id}", "One holding with its findings", "holdings",
		404),
		func(ctx context.Context, in *byID) (*body[api.HoldingView], error) {
			h, err := s.Store.Holding(ctx, in.ID)
			if err != nil {
				return nil, s.failure(err)
			}
			rows, _, err := s.Store.Findings(ctx, store.FindingQuery{HoldingID: in.ID, Limit: 1000})
			if err != nil {
				return nil, s.failure(err)
			}
			return &body[api.HoldingView]{api.HoldingView{Holding: holdingOf(h), Findings: findingsOf(rows)}}, nil
		})
	type filesInput struct {
		ID      int64  `path:"id" minimum:"1"`
		Verdict string `query:"verdict" enum:"sound,at-risk,faulty"`
		Cursor  string `query:"cursor" maxLength:"8000"`
		Limit   int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	}
	huma.Register(s.api, operation("list-holding-files", "GET", "/holdings/{id}/files",
		"List the files of a holding, by path", "holdings", 404, 422),
		func(ctx context.Context, in *filesInput) (*body[api.HoldingFilePage], error) {
			if _, err := s.Store.Holding(ctx, in.ID); err != nil {
				return nil, s.failure(err)
			}
			rows, next, err := s.Store.HoldingFiles(ctx, in.ID, in.Verdict, in.Cursor, in.Limit)
			if err != nil {
				return nil, s.failure(err)
			}
			page := api.HoldingFilePage{Items: []api.HoldingFile{}, Next: next}
			for _, r := range rows {
				page.Items = append(page.Items, api.HoldingFile{Path: r.Path, Verdict: r.Verdict,
					Contents: contents(r.Facts)})
			}
			return &body[api.HoldingFilePage]{page}, nil
		})
	type digestsInput struct {
		ID     int64  `path:"id" minimum:"1"`
		Cursor string `query:"cursor" maxLength:"8000"`
		Limit  int    `query:"limit" minimum:"1" maximum:"10000" default:"1000"`
	}
	huma.Register(s.api, operation("list-holding-digests", "GET", "/holdings/{id}/digests",
		"List the digests of the lines by which the files of a holding were sent, by path", "holdings", 404, 422),
		func(ctx context.Context, in *digestsInput) (*body[api.HoldingDigestPage], error) {
			if _, err := s.Store.Holding(ctx, in.ID); err != nil {
				return nil, s.failure(err)
			}
			rows, next, err := s.Store.HoldingDigests(ctx, in.ID, in.Cursor, in.Limit)
			if err != nil {
				return nil, s.failure(err)
			}
			page := api.HoldingDigestPage{Items: []api.HoldingDigest{}, Next: next}
			for _, r := range rows {
				page.Items = append(page.Items, api.HoldingDigest{Path: r.Path, Digest: r.Digest})
			}
			return &body[api.HoldingDigestPage]{page}, nil
		})
	type changeInput struct {
		ID      int64  `path:"id" minimum:"1"`
		IfMatch string `header:"If-Match" maxLength:"1000" doc:"The holding's tag in quotes; it is refused where the holding has another by now"`
		Body    api.HoldingSettings
	}
	huma.Register(s.api, operation("change-holding", "PATCH", "/holdings/{id}",
		"Change by what a holding is judged, and judge it anew", "holdings", 404, 412, 422),
		func(ctx context.Context, in *changeInput) (*tagged[api.Holding], error) {
			h, err := s.Store.Holding(ctx, in.ID)
			if err != nil {
				return nil, s.failure(err)
			}
			before := holdingOf(h)
			if in.Body.Policy != nil {
				h.Policy = *in.Body.Policy
			}
			if in.Body.Trust != nil {
				h.Trust = orEmpty(*in.Body.Trust)
			}
			if in.Body.Audiences != nil {
				h.Audiences = orEmpty(*in.Body.Audiences)
			}
			known, err := s.known(ctx)
			if err != nil {
				return nil, s.failure(err)
			}
			if details := holdingDefects(h, known); len(details) > 0 || h.Policy == "" {
				return nil, invalid(details)
			}
			told(ctx, h.Name, before, holdingOf(h))
			if err := s.Queue.ChangeHolding(ctx, &h, in.IfMatch); err != nil {
				return nil, s.failure(err)
			}
			return withTag(h.Tag(), holdingOf(h)), nil
		})
	huma.Register(s.api, operation("remove-holding", "DELETE", "/holdings/{id}", "Remove a holding and its findings",
		"holdings", 404, 412),
		func(ctx context.Context, in *changeByID) (*struct{}, error) {
			if h, err := s.Store.Holding(ctx, in.ID); err == nil {
				told(ctx, h.Name, map[string]any{"policy": h.Policy, "files": h.Files}, nil)
			}
			if err := s.Store.RemoveHolding(ctx, in.ID, in.IfMatch); err != nil {
				return nil, s.failure(err)
			}
			return nil, nil
		})
}

// holdingDefects checks what people set of a holding, as of an endpoint.
func holdingDefects(h store.Holding, known endpoint.Known) []error {
	var details []error
	settings := api.EndpointSettings{Endpoint: "holding.invalid", Policy: h.Policy, Trust: h.Trust,
		Audiences: h.Audiences}
	for _, d := range settings.Settle(known) {
		details = append(details, &huma.ErrorDetail{Message: d.Err.Error(), Location: "body." + d.Field})
	}
	return details
}

func holdingOf(h store.Holding) api.Holding {
	return api.Holding{ID: h.ID, Tag: h.Tag(), Name: h.Name, Policy: h.Policy, Trust: orEmpty(h.Trust),
		Audiences: orEmpty(h.Audiences), SentAt: h.SentAt, JudgedAt: h.JudgedAt,
		Files: h.Files, Verdict: h.Verdict, Faults: h.Faults, Risks: h.Risks, Notes: h.Notes, Waived: h.Waived,
		Codes: orEmpty(h.Codes), Failure: h.Failure,
		Waiting: h.JudgedVersion < h.Version}
}

// contents says in a few words each what a file holds.
func contents(f facts.File) []string {
	out := []string{}
	if c := f.Configuration; c != nil {
		out = append(out, fmt.Sprintf("configuration of %s, %d places", c.Server, len(c.Sites)))
	}
	for i := range f.Items {
		e := inventory.Of(&f.Items[i], nil, false)
		words := e.What
		switch {
		case e.Label != "":
			words += " " + e.Label
		case e.Key != "":
			words += " " + e.Key
		}
		if !e.NotAfter.IsZero() {
			words += " until " + e.NotAfter.UTC().Format(time.DateOnly)
		}
		out = append(out, words)
	}
	return out
}
