package web

import (
	"context"
	"fmt"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"nurvik/core/pki"
	"nurvik/core/policy"
	"nurvik/core/trust"
	"nurvik/internal/api"
	"nurvik/internal/service/store"
)

func (s *server) registerEstate() {
	huma.Register(s.api, operation("export-estate", "GET", "/estate", "The whole estate with its trust stores",
		"estate"),
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
	imports := operation("import-estate", "PUT", "/estate", "Take in an estate, all of it or nothing", "estate", 422)
	imports.MaxBodyBytes = maxBody
	huma.Register(s.api, imports, func(ctx context.Context, in *body[api.EstateImport]) (*body[api.Imported], error) {
		done, err := s.importEstate(ctx, in.Body)
		if err != nil {
			return nil, err
		}
		return &body[api.Imported]{done}, nil
	})
}

func (s *server) importEstate(ctx context.Context, in api.EstateImport) (api.Imported, error) {
	stores, details := s.storesOf(in.Stores)
	known, err := s.known(ctx)
	if err != nil {
		return api.Imported{}, s.failure(err)
	}
	for _, t := range stores {
		known.Stores[t.Name] = true
	}
	for i, p := range in.Policies {
		known.Policies[p.Name] = true
		for _, d := range policyDefects(p.Name, p.Text) {
			details = append(details, &huma.ErrorDetail{Message: p.Name + ": " + d.(*huma.ErrorDetail).Message,
				Location: fmt.Sprintf("body.policies[%d].text", i)})
		}
		if slices.Contains(policy.Names(), p.Name) {
			details = append(details, &huma.ErrorDetail{Message: store.ErrBuiltin.Error(),
				Location: fmt.Sprintf("body.policies[%d].name", i)})
		}
	}
	seen := map[string]bool{}
	var endpoints []store.Endpoint
	for i, settings := range in.Endpoints {
		place := fmt.Sprintf("body.endpoints[%d]", i)
		e, defects := recordOf(settings, known, place)
		if len(defects) == 0 && seen[e.Target] {
			defects = append(defects, &huma.ErrorDetail{Message: e.Target + " is there twice", Location: place})
		}
		seen[e.Target] = true
		details = append(details, defects...)
		endpoints = append(endpoints, e)
	}
	if len(details) > 0 {
		return api.Imported{}, invalid(details[:min(len(details), 100)])
	}
	var count store.Imported
	err = s.Store.Tx(ctx, func(tx *store.Tx) (err error) {
		if err = tx.PutTrustStores(stores); err != nil {
			return err
		}
		for _, p := range in.Policies {
			if _, err := tx.SavePolicy(p.Name, p.Text, s.Now()); err != nil {
				return err
			}
		}
		count, err = tx.PutEndpoints(endpoints, in.Replace, s.Now())
		return err
	})
	if err != nil {
		return api.Imported{}, s.failure(err)
	}
	return api.Imported(count), nil
}

func (s *server) storesOf(list []api.TrustStore) ([]store.TrustStore, []error) {
	var out []store.TrustStore
	var details []error
	for i, t := range list {
		record := store.TrustStore{Name: t.Name, Anchors: []store.Anchor{}, UpdatedAt: s.Now()}
		if t.Name == trust.SystemName {
			details = append(details, &huma.ErrorDetail{Message: "the name \"system\" is taken",
				Location: fmt.Sprintf("body.stores[%d].name", i)})
		}
		for j, a := range t.Anchors {
			if _, err := pki.ParseCertificate(a.DER); err != nil {
				details = append(details, &huma.ErrorDetail{Message: err.Error(),
					Location: fmt.Sprintf("body.stores[%d].anchors[%d].der", i, j)})
				continue
			}
			record.Anchors = append(record.Anchors, store.Anchor{DER: a.DER, Kind: trust.Kind(a.Kind)})
		}
		out = append(out, record)
	}
	return out, details
}
