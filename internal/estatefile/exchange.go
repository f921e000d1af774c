package estatefile

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"nurvik/core/endpoint"
	"nurvik/core/pki"
	"nurvik/core/trust"
	"nurvik/internal/api"
)

// ForService turns the file into what the service takes in: stores as
// certificates, since it reads no files, and defaults filled in.
func (e *Estate) ForService() (api.Estate, error) {
	out := api.Estate{Stores: []api.TrustStore{}, Endpoints: []api.EndpointSettings{}}
	stores, err := e.LoadStores()
	if err != nil {
		return out, err
	}
	for _, name := range slices.Sorted(maps.Keys(stores)) {
		t := api.TrustStore{Name: name, Anchors: []api.Anchor{}}
		for _, a := range stores[name].Anchors {
			t.Anchors = append(t.Anchors, api.Anchor{DER: a.Certificate.Raw, Kind: string(a.Kind)})
		}
		out.Stores = append(out.Stores, t)
	}
	texts, err := e.PolicyTexts()
	if err != nil {
		return out, err
	}
	for _, name := range slices.Sorted(maps.Keys(texts)) {
		out.Policies = append(out.Policies, api.NamedPolicy{Name: name, Text: texts[name]})
	}
	for _, entry := range e.Endpoints {
		s := e.Settled(entry)
		out.Endpoints = append(out.Endpoints, s)
	}
	return out, nil
}

// FromService turns what the service holds into a file that stands alone: the
// anchors are in it.
func FromService(in api.Estate) (*Estate, error) {
	e := &Estate{Stores: map[string]Store{}, Policies: map[string]Policy{}, Endpoints: []endpoint.Settings{}}
	for _, t := range in.Stores {
		byKind := map[trust.Kind]*strings.Builder{}
		for _, a := range t.Anchors {
			c, err := pki.ParseCertificate(a.DER)
			if err != nil {
				return nil, fmt.Errorf("store %s: %w", t.Name, err)
			}
			kind := trust.Kind(a.Kind)
			if byKind[kind] == nil {
				byKind[kind] = &strings.Builder{}
			}
			byKind[kind].WriteString(c.PEM())
		}
		if len(byKind) > 1 {
			return nil, fmt.Errorf("store %s holds anchors of several kinds, which one store of a file cannot say",
				t.Name)
		}
		for kind, text := range byKind {
			e.Stores[t.Name] = Store{Kind: kind, PEM: text.String()}
		}
	}
	for _, p := range in.Policies {
		e.Policies[p.Name] = Policy{Text: p.Text}
	}
	e.Endpoints = append(e.Endpoints, in.Endpoints...)
	return e, nil
}
