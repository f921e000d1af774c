package web

import (
	"context"
	"fmt"

	"github.com/danielgtaylor/huma/v2"

	"nurvik/internal/api"
)

func (s *server) registerBulk() {
	change := operation("change-endpoints", "POST", "/estate/changes",
		"Change the settings of many endpoints at once, all or none; preview says first what would change", "estate",
		412, 422)
	change.MaxBodyBytes = largeBody
	huma.Register(s.api, change, func(ctx context.Context, in *body[api.BulkChange]) (*body[api.BulkResult], error) {
		c := in.Body
		if defects := bulkDefects(c); len(defects) > 0 {
			return nil, invalid(defects)
		}
		known, err := s.known(ctx)
		if err != nil {
			return nil, s.failure(err)
		}
		done, err := s.Store.BulkChange(ctx, c, s.Now(), func(settings *api.EndpointSettings) error {
			var details []error
			for _, d := range settings.Settle(known) {
				details = append(details, &huma.ErrorDetail{Message: settings.Endpoint + ": " + d.Err.Error(),
					Location: "body.set." + d.Field})
			}
			if len(details) > 0 {
				return invalid(details)
			}
			return nil
		})
		if err != nil {
			return nil, s.failure(err)
		}
		if c.Preview {
			told(ctx, "a preview", nil, nil)
		} else {
			told(ctx, fmt.Sprintf("%d endpoints", done.Changed), nil, c)
			s.Log.Info("endpoints changed", "matched", done.Matched, "changed", done.Changed)
		}
		return &body[api.BulkResult]{done}, nil
	})
}

// bulkDefects are what is wrong before any endpoint is looked at.
func bulkDefects(c api.BulkChange) (out []error) {
	wrong := func(place, words string) {
		out = append(out, &huma.ErrorDetail{Message: words, Location: "body." + place})
	}
	named := c.Filter
	named.All = false
	switch {
	case named == (api.EndpointFilter{}) && !c.Filter.All:
		wrong("filter", "say which endpoints, or all for the whole estate")
	case named != (api.EndpointFilter{}) && c.Filter.All:
		wrong("filter.all", "all is the whole estate; leave out what else is said, or all")
	}
	if !IsLabel(c.Filter.Label) {
		wrong("filter.label", "a label is KEY=VALUE")
	}
	if c.Set.Empty() {
		wrong("set", "say what to change")
	}
	return out
}
