package estatefile

import (
	"cmp"
	"encoding/json"
	"maps"
	"reflect"
	"slices"

	"nurvik/core/endpoint"
)

// Change is what an import would do to an endpoint.
type Change struct {
	Endpoint string            `json:"endpoint"`
	What     string            `json:"what" enum:"added,changed,removed"`
	Settings map[string]FromTo `json:"settings,omitempty" doc:"Of those that are changed, by the name in JSON"`
}

// FromTo is how a setting is, and how it would be; absent where there is none.
type FromTo struct {
	From any `json:"from,omitempty"`
	To   any `json:"to,omitempty"`
}

// Difference is what taking in endpoints would change in an estate, by endpoint. With replace, those that are not among
// them would be removed.
func Difference(estate, in []endpoint.Settings, replace bool) []Change {
	before := map[string]endpoint.Settings{}
	for _, e := range estate {
		before[e.Endpoint] = e
	}
	out := []Change{}
	for _, e := range in {
		old, known := before[e.Endpoint]
		delete(before, e.Endpoint)
		if !known {
			out = append(out, Change{Endpoint: e.Endpoint, What: "added"})
		} else if changed := settings(old, e); len(changed) > 0 {
			out = append(out, Change{Endpoint: e.Endpoint, What: "changed", Settings: changed})
		}
	}
	if replace {
		for target := range before {
			out = append(out, Change{Endpoint: target, What: "removed"})
		}
	}
	slices.SortFunc(out, func(a, b Change) int { return cmp.Compare(a.Endpoint, b.Endpoint) })
	return out
}

// settings are those that differ, by their names in JSON.
func settings(old, now endpoint.Settings) map[string]FromTo {
	from, to, out := values(old), values(now), map[string]FromTo{}
	for _, all := range []map[string]any{from, to} {
		for key := range maps.Keys(all) {
			if !reflect.DeepEqual(from[key], to[key]) {
				out[key] = FromTo{from[key], to[key]}
			}
		}
	}
	return out
}

func values(s endpoint.Settings) (out map[string]any) {
	text, err := json.Marshal(s)
	if err == nil {
		err = json.Unmarshal(text, &out)
	}
	if err != nil {
		panic("estatefile: settings that are no JSON: " + err.Error())
	}
	return out
}
