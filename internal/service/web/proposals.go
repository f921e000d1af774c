package web

import (
	"context"
	"fmt"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"nurvik/core/endpoint"
	"nurvik/core/proposal"
	"nurvik/internal/api"
	"nurvik/internal/service/auth"
	"nurvik/internal/service/store"
)

// mostProposals is how many are shown at once.
const mostProposals = 1000

func (s *server) registerProposals() {
	list := operation("list-proposals", "GET", "/proposals",
		"Endpoints that the estate may lack: names in certificates, what servers are told to serve, and what searches "+
			"found", "estate", 429)
	list.Metadata = map[string]any{heavy: exports}
	huma.Register(s.api, list, func(ctx context.Context, _ *struct{}) (*body[api.Proposals], error) {
		seen, more, err := s.Store.NamesElsewhere(ctx, s.Now())
		if err != nil {
			return nil, s.failure(err)
		}
		configured, err := s.Store.ConfiguredElsewhere(ctx)
		if err != nil {
			return nil, s.failure(err)
		}
		found, others, err := s.Store.FoundElsewhere(ctx, s.Now())
		if err != nil {
			return nil, s.failure(err)
		}
		dismissed, err := s.Store.Dismissed(ctx)
		if err != nil {
			return nil, s.failure(err)
		}
		out := api.Proposals{Items: []api.Proposal{}, More: more || others}
		for _, p := range proposal.Join(slices.Concat(seen, configured, found)) {
			if dismissed[p.Endpoint] {
				continue
			}
			if out.More = out.More || len(out.Items) == mostProposals; len(out.Items) == mostProposals {
				break
			}
			out.Items = append(out.Items, p)
		}
		return &body[api.Proposals]{out}, nil
	})
	answer := operation("answer-proposals", "POST", "/proposals",
		"Add proposed endpoints to the estate, all or none, and say which are not wanted", "estate", 422)
	huma.Register(s.api, answer,
		func(ctx context.Context, in *body[api.ProposalAnswer]) (*body[api.ProposalsAnswered], error) {
			known, err := s.known(ctx)
			if err != nil {
				return nil, s.failure(err)
			}
			var accepted []store.Endpoint
			var details []error
			at := s.Now()
			for i, target := range in.Body.Accept {
				e, wrong := recordOf(in.Body.Set.Over(api.EndpointSettings{Endpoint: target}), known,
					fmt.Sprintf("body.accept[%d]", i))
				e.CreatedAt, e.UpdatedAt = at, at
				accepted, details = append(accepted, e), append(details, wrong...)
			}
			dismissed := make([]string, len(in.Body.Dismiss))
			for i, target := range in.Body.Dismiss {
				parsed, err := endpoint.Parse(target)
				if err != nil {
					details = append(details, &huma.ErrorDetail{Message: err.Error(),
						Location: fmt.Sprintf("body.dismiss[%d]", i)})
				}
				dismissed[i] = parsed.String()
			}
			if len(details) > 0 {
				return nil, invalid(details[:min(len(details), maxTold)])
			}
			added, err := s.Store.AnswerProposals(ctx, accepted, dismissed, auth.From(ctx).Name, at)
			if err != nil {
				return nil, s.failure(err)
			}
			told(ctx, fmt.Sprintf("%d added, %d dismissed", added, len(dismissed)), nil, in.Body)
			return &body[api.ProposalsAnswered]{api.ProposalsAnswered{Added: added, Dismissed: len(dismissed)}}, nil
		})
}
