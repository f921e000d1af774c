package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"nurvik/internal/api"
)

func (s *server) registerEstate() {
	export := operation("export-estate", "GET", "/estate", "The whole estate with its trust stores", "estate", 429)
	export.Metadata = map[string]any{heavy: exports}
	huma.Register(s.api, export,
		func(ctx context.Context, _ *struct{}) (*body[api.Estate], error) {
			out := api.Estate{Stores: []api.TrustStore{}, Endpoints: []api.EndpointSettings{}}
			stores, err := s.Store.TrustStores(ctx)
			if err != nil {
				return nil, s.failure(err)
			}
			for _, t := range stores {
				ts := api.TrustStore{Name: t.Name, Anchors: []api.Anchor{}}
				for _, a := range t.Anchors {
					ts.Anchors = append(ts.Anchors, api.Anchor{DER: a.DER, Kind: string(a.Kind)})
				}
				out.Stores = append(out.Stores, ts)
			}
			texts, err := s.Store.PolicyTexts(ctx)
			if err != nil {
				return nil, s.failure(err)
			}
			for _, t := range texts {
				out.Policies = append(out.Policies, api.NamedPolicy{Name: t.Name, Text: t.Text})
			}
			endpoints, err := s.Store.AllEndpoints(ctx)
			if err != nil {
				return nil, s.failure(err)
			}
			for _, e := range endpoints {
				out.Endpoints = append(out.Endpoints, e.Settings)
			}
			return &body[api.Estate]{out}, nil
		})
}
