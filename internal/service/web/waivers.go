package web

import (
	"context"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"nurvik/core/judge"
	"nurvik/core/plain"
	"nurvik/internal/api"
	"nurvik/internal/service/auth"
	"nurvik/internal/service/store"
)

func (s *server) registerWaivers() {
	type acknowledgeInput struct {
		ID   string `path:"id" maxLength:"100"`
		Body api.AcknowledgementNote
	}
	huma.Register(s.api, operation("acknowledge-finding", "PUT", "/findings/{id}/acknowledgement",
		"Say that the caller has seen a finding. It counts as before, and is new again when it comes back", "findings",
		404, 422),
		func(ctx context.Context, in *acknowledgeInput) (*body[api.Finding], error) {
			if err := plain.Check(in.Body.Note, true); err != nil {
				return nil, invalid([]error{&huma.ErrorDetail{Message: err.Error(), Location: "body.note"}})
			}
			return s.acknowledged(ctx, in.ID, &api.Acknowledgement{By: auth.From(ctx).Name, At: s.Now(),
				Note: in.Body.Note})
		})
	type findingInput struct {
		ID string `path:"id" maxLength:"100"`
	}
	huma.Register(s.api, operation("forget-acknowledgement", "DELETE", "/findings/{id}/acknowledgement",
		"Take an acknowledgement back", "findings", 404),
		func(ctx context.Context, in *findingInput) (*body[api.Finding], error) {
			return s.acknowledged(ctx, in.ID, nil)
		})
	huma.Register(s.api, operation("list-waivers", "GET", "/waivers", "What people waive, the first to end in front",
		"findings"),
		func(ctx context.Context, _ *struct{}) (*body[[]api.Waiver], error) {
			list, err := s.Store.Waivers(ctx)
			if err != nil {
				return nil, s.failure(err)
			}
			out, err := s.waiversOf(ctx, list)
			if err != nil {
				return nil, s.failure(err)
			}
			return &body[[]api.Waiver]{out}, nil
		})
	add := operation("add-waiver", "POST", "/waivers",
		"Take findings of a code out of verdicts until a day: everywhere, or of one endpoint, one holding or a label. "+
			"What is judged already counts anew at once", "findings", 409, 422)
	add.DefaultStatus = 201
	huma.Register(s.api, add, func(ctx context.Context, in *body[api.WaiverStart]) (*body[api.Waiver], error) {
		w, details := s.waiver(in.Body, auth.From(ctx).Name)
		if len(details) > 0 {
			return nil, invalid(details)
		}
		if err := s.Store.AddWaiver(ctx, &w); err != nil {
			return nil, s.failure(err)
		}
		out, err := s.waiversOf(ctx, store.Waivers{w})
		if err == nil {
			told(ctx, w.Code, nil, out[0])
			err = s.Queue.Waive(context.WithoutCancel(ctx), w.Code)
		}
		if err != nil {
			return nil, s.failure(err)
		}
		return &body[api.Waiver]{out[0]}, nil
	})
	huma.Register(s.api, operation("remove-waiver", "DELETE", "/waivers/{id}",
		"Take a waiver back; its findings count again", "findings", 404),
		func(ctx context.Context, in *byID) (*struct{}, error) {
			w, err := s.Store.Waiver(ctx, in.ID)
			if err != nil {
				return nil, s.failure(err)
			}
			out, err := s.waiversOf(ctx, store.Waivers{w})
			if err != nil {
				return nil, s.failure(err)
			}
			told(ctx, w.Code, out[0], nil)
			if err := s.Store.RemoveWaiver(ctx, in.ID); err != nil {
				return nil, s.failure(err)
			}
			if err := s.Queue.Waive(context.WithoutCancel(ctx), w.Code); err != nil {
				return nil, s.failure(err)
			}
			return nil, nil
		})
}

func (s *server) acknowledged(ctx context.Context, id string, a *api.Acknowledgement) (*body[api.Finding], error) {
	row, err := s.Store.Acknowledge(ctx, id, a)
	if err != nil {
		return nil, s.failure(err)
	}
	f := findingsOf([]store.FindingRow{row})[0]
	told(ctx, f.Place()+" "+f.Code, nil, a)
	return &body[api.Finding]{f}, nil
}

// waiver checks a waiver and makes its record.
func (s *server) waiver(in api.WaiverStart, by string) (w store.Waiver, details []error) {
	wrong := func(place, words string) {
		details = append(details, &huma.ErrorDetail{Message: words, Location: "body." + place})
	}
	if _, err := judge.Explain(in.Code); err != nil {
		wrong("code", err.Error())
	}
	until, err := time.Parse(time.DateOnly, in.Until)
	switch {
	case err != nil:
		wrong("until", "the last day is a date, such as 2027-03-31")
	case daysLeft(until, s.Now()) < 0:
		wrong("until", "that day is over")
	case daysLeft(until, s.Now()) > mostDays:
		wrong("until", "a waiver lasts two years at most; look at it again then")
	}
	if !IsLabel(in.Label) {
		wrong("label", "a label is KEY=VALUE")
	}
	given := 0
	for _, is := range []bool{in.EndpointID != nil, in.HoldingID != nil, in.Label != ""} {
		if is {
			given++
		}
	}
	if given > 1 {
		wrong("label", "a waiver is about one endpoint, one holding or one label, or about everything")
	}
	if strings.TrimSpace(in.Reason) == "" {
		wrong("reason", "say why")
	}
	for place, text := range map[string]string{"reason": in.Reason, "label": in.Label} {
		if err := plain.Check(text, true); err != nil {
			wrong(place, err.Error())
		}
	}
	return store.Waiver{Code: in.Code, EndpointID: in.EndpointID, HoldingID: in.HoldingID, Label: in.Label,
		Reason: in.Reason, Until: until, ByName: by, CreatedAt: s.Now()}, details
}

// mostDays is how long a waiver lasts at most.
const mostDays = 731

// daysLeft is how many days a waiver still lasts: 0 on its last.
func daysLeft(until, now time.Time) int {
	return int(until.Sub(now.UTC().Truncate(24*time.Hour)) / (24 * time.Hour))
}

func (s *server) waiversOf(ctx context.Context, list store.Waivers) ([]api.Waiver, error) {
	var endpoints, holdings []int64
	for _, w := range list {
		if w.EndpointID != nil {
			endpoints = append(endpoints, *w.EndpointID)
		}
		if w.HoldingID != nil {
			holdings = append(holdings, *w.HoldingID)
		}
	}
	slices.Sort(endpoints)
	targets, names, err := s.Store.Names(ctx, slices.Compact(endpoints), holdings)
	if err != nil {
		return nil, err
	}
	out := make([]api.Waiver, len(list))
	for i, w := range list {
		out[i] = api.Waiver{ID: w.ID, WaiverStart: api.WaiverStart{Code: w.Code, EndpointID: w.EndpointID,
			HoldingID: w.HoldingID, Label: w.Label, Reason: w.Reason, Until: w.Until.Format(time.DateOnly)},
			About: w.About(targets, names), By: w.ByName, CreatedAt: w.CreatedAt, Days: daysLeft(w.Until, s.Now())}
	}
	return out, nil
}
