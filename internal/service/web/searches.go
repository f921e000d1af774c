package web

import (
	"context"
	"fmt"
	"net/netip"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"nurvik/core/proposal"
	"nurvik/internal/api"
	"nurvik/internal/service/auth"
	"nurvik/internal/service/store"
)

func (s *server) registerSearches() {
	huma.Register(s.api, operation("list-searches", "GET", "/searches",
		"Networks that may be searched for endpoints, and the searches until now", "estate"),
		func(ctx context.Context, _ *struct{}) (*body[api.Searches], error) {
			list, err := s.Store.Searches(ctx)
			if err != nil {
				return nil, s.failure(err)
			}
			out := api.Searches{Allowed: slices.Concat(proposal.Ranges{}, s.Queue.Searchable()), Items: []api.Search{}}
			for _, x := range list {
				out.Items = append(out.Items, searchOf(x))
			}
			return &body[api.Searches]{out}, nil
		})
	start := operation("start-search", "POST", "/searches",
		"Search networks for endpoints; what answers TLS is proposed", "estate", 409, 422)
	start.DefaultStatus = 201
	huma.Register(s.api, start, func(ctx context.Context, in *body[api.SearchStart]) (*body[api.Search], error) {
		ranges, err := s.ranges(in.Body)
		if err != nil {
			return nil, err
		}
		x, err := s.Queue.Search(ctx, ranges, auth.From(ctx).Name)
		if err != nil {
			return nil, s.failure(err)
		}
		told(ctx, fmt.Sprintf("%d places in %d networks", x.Size, len(ranges)), nil, in.Body)
		return &body[api.Search]{searchOf(x)}, nil
	})
	huma.Register(s.api, operation("get-search", "GET", "/searches/{id}", "One search", "estate", 404),
		func(ctx context.Context, in *byID) (*body[api.Search], error) {
			x, err := s.Store.Search(ctx, in.ID)
			if err != nil {
				return nil, s.failure(err)
			}
			return &body[api.Search]{searchOf(x)}, nil
		})
	huma.Register(s.api, operation("cancel-search", "POST", "/searches/{id}/cancel",
		"Cancel a search; what it found until then stays", "estate", 404, 409),
		func(ctx context.Context, in *byID) (*body[api.Search], error) {
			ended, err := s.Store.EndSearch(ctx, in.ID, "cancelled", "", s.Now())
			if err != nil {
				return nil, s.failure(err)
			}
			x, err := s.Store.Search(ctx, in.ID)
			if err != nil {
				return nil, s.failure(err)
			}
			if !ended {
				return nil, huma.Error409Conflict("the search has ended already: it is " + x.State)
			}
			return &body[api.Search]{searchOf(x)}, nil
		})
}

// ranges checks what is to be searched.
func (s *server) ranges(in api.SearchStart) (proposal.Ranges, error) {
	allowed := s.Queue.Searchable()
	if len(allowed) == 0 {
		return nil, huma.Error409Conflict("no network may be searched: start the service with --search-network " +
			"NETWORK, such as 10.20.0.0/24")
	}
	var networks []netip.Prefix
	for i, text := range in.Networks {
		network, err := netip.ParsePrefix(text)
		if err != nil {
			return nil, invalid([]error{&huma.ErrorDetail{Location: fmt.Sprintf("body.networks[%d]", i),
				Message: fmt.Sprintf("%q is no network: write ADDRESS/BITS, such as 10.20.0.0/24", text)}})
		}
		networks = append(networks, network)
	}
	ranges, err := proposal.Choose(allowed, networks, in.Ports)
	if err != nil {
		return nil, invalid([]error{&huma.ErrorDetail{Location: "body.networks", Message: err.Error()}})
	}
	return ranges, nil
}

func searchOf(x store.Search) api.Search {
	return api.Search{ID: x.ID, State: x.State, Ranges: x.Ranges, By: x.ByName, CreatedAt: x.CreatedAt,
		FinishedAt: x.FinishedAt, Failure: x.Failure, Size: x.Size, Done: x.Done, Found: x.Found, Others: x.Others}
}
