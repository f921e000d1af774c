package web

import (
	"context"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/wanted"
	"nurvik/internal/api"
	"nurvik/internal/service/store"
)

// mostPlaces is how many places one answer carries.
const mostPlaces = 1000

func (s *server) registerWhere() {
	type input struct {
		What string `query:"what" required:"true" minLength:"1" maxLength:"300" doc:"A serial number (decimal or hexadecimal), the SHA-256 of a certificate or of a public key, a host name, or a part of a subject"`
	}
	huma.Register(s.api, operation("where", "GET", "/where",
		"Find every place of a certificate, key or name, now and before", "expiry", 422),
		func(ctx context.Context, in *input) (*body[api.Where], error) {
			thing, err := wanted.Parse(in.What)
			if err != nil {
				return nil, huma.Error422UnprocessableEntity("it cannot be looked for",
					&huma.ErrorDetail{Message: err.Error(),
						Location: "query.what"})
			}
			rows, total, err := s.Store.Where(ctx, thing, mostPlaces)
			if err != nil {
				return nil, s.failure(err)
			}
			out := api.Where{What: thing.Text, Places: []api.WherePlace{}, SameKey: []api.WhereOther{},
				Before: []api.WhereOther{},
				After:  []api.WhereOther{}, More: int(total) - len(rows)}
			keys, found := map[string]bool{}, map[string]*store.WhereRow{}
			for i := range rows {
				r := &rows[i]
				out.Places = append(out.Places, wherePlace(r, thing))
				keys[r.SPKISHA256] = true
				if r.SHA256 != "" {
					found[r.SHA256] = r
				}
			}
			relatives, err := s.Store.Relatives(ctx, sortedKeys(keys), sortedKeys(found), mostPlaces)
			if err != nil {
				return nil, s.failure(err)
			}
			addRelatives(&out, relatives, keys, found)
			return &body[api.Where]{out}, nil
		})
}

func sortedKeys[T any](of map[string]T) []string {
	out := make([]string, 0, len(of))
	for key := range of {
		out = append(out, key)
	}
	return out
}

// wherePlace is a row for people and programs.
func wherePlace(r *store.WhereRow, t wanted.Thing) api.WherePlace {
	p := api.WherePlace{Kind: "endpoint", Name: r.Target, Address: r.Address, Holding: r.Holding, Line: r.Line,
		Alias: r.Alias,
		What:  r.Kind, Serial: r.Serial, NotBefore: r.NotBefore, NotAfter: r.NotAfter, Now: r.Now, Since: &r.FirstSeen,
		Until: &r.LastSeen, Label: whereLabel(r), By: "name"}
	if r.Holding != "" {
		p.Kind, p.Name = r.PlaceKind, r.Path
	}
	if f, err := pki.ParseFingerprint(r.SHA256); err == nil {
		p.Certificate = f
	}
	switch {
	case t.Digest != nil && t.Digest.String() == r.SHA256:
		p.By = "fingerprint"
	case t.Digest != nil:
		p.By = "key"
	case contains(t.Serials, r.Serial):
		p.By = "serial number"
	case strings.Contains(strings.ToLower(r.Subject), t.Name) && !strings.Contains(strings.ToLower(r.Names), t.Name):
		p.By = "subject"
	}
	return p
}

func contains(list []string, text string) bool {
	for _, x := range list {
		if x == text {
			return true
		}
	}
	return false
}

func whereLabel(r *store.WhereRow) string {
	if r.Kind != string(facts.Certificate) {
		return strings.ReplaceAll(r.Kind, "-", " ")
	}
	if first, _, _ := strings.Cut(r.Names, "\n"); first != "" {
		return first
	}
	return r.Subject
}

// addRelatives sorts certificates into those on the same key, and those before and after what was found.
func addRelatives(out *api.Where, rows []store.WhereRow, keys map[string]bool, found map[string]*store.WhereRow) {
	into := func(list *[]api.WhereOther, r *store.WhereRow) {
		f, err := pki.ParseFingerprint(r.SHA256)
		if err != nil {
			return
		}
		place := r.Target
		if r.Holding != "" {
			place = r.Holding + ":" + r.Path
		}
		if n := len(*list); n > 0 && (*list)[n-1].Certificate == f { // rows of one certificate follow one another
			if last := &(*list)[n-1]; len(last.Places) < 5 && !contains(last.Places, place) {
				last.Places = append(last.Places, place)
			}
			return
		}
		*list = append(*list, api.WhereOther{Label: whereLabel(r), Certificate: f, Serial: r.Serial,
			NotBefore: r.NotBefore,
			NotAfter:  r.NotAfter, Places: []string{place}})
	}
	for i := range rows {
		r := &rows[i]
		if keys[r.SPKISHA256] {
			into(&out.SameKey, r)
		}
		for _, f := range found {
			if f.Names != r.Names || r.Names == "" || f.NotBefore == nil || r.NotBefore == nil {
				continue
			}
			if r.NotBefore.Before(*f.NotBefore) {
				into(&out.Before, r)
			} else if r.NotBefore.After(*f.NotBefore) {
				into(&out.After, r)
			}
			break
		}
	}
}
