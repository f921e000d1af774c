package web

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"nurvik/core/policy"
	"nurvik/core/trust"
	"nurvik/internal/api"
	"nurvik/internal/service/auth"
	"nurvik/internal/service/store"
)

// partTime is how long the sending of a part may take: 32 MiB over a slow line.
const partTime = 5 * time.Minute

// finishTime bounds the taking in of a delivery.
const finishTime = 20 * time.Minute

// partInput is a part, whose lines are read as they come.
type partInput struct {
	ID   int64 `path:"id" minimum:"1"`
	Part int   `path:"part" minimum:"1" maximum:"1000000"`
	body io.Reader
	read func() // all is read, and the answer may take longer
}

// Resolve implements huma.Resolver.
func (in *partInput) Resolve(ctx huma.Context) []error {
	_ = ctx.SetReadDeadline(time.Now().Add(partTime)) // a connection that takes no deadline has the server's
	in.read = func() { _ = ctx.SetReadDeadline(time.Time{}) }
	in.body = http.MaxBytesReader(nil, io.NopCloser(ctx.BodyReader()), api.MaxPart)
	return nil
}

func (s *server) registerDeliveries() {
	begin := operation("begin-delivery", "POST", "/deliveries",
		"Begin to send a holding or an estate in parts, or go on with it", "deliveries", 422, 429)
	begin.DefaultStatus = 201
	huma.Register(s.api, begin, func(ctx context.Context, in *body[api.DeliveryStart]) (*body[api.Delivery], error) {
		if details, err := s.headerDefects(ctx, in.Body); err != nil || len(details) > 0 {
			if err == nil {
				err = invalid(details)
			}
			return nil, err
		}
		if err := mayDeliver(ctx, in.Body.Kind); err != nil {
			return nil, err
		}
		d, err := s.Store.BeginDelivery(ctx, in.Body)
		return s.deliveryBody(d, err)
	})
	huma.Register(s.api, operation("get-delivery", "GET", "/deliveries/{id}", "How far a delivery is", "deliveries",
		404),
		func(ctx context.Context, in *byID) (*body[api.Delivery], error) {
			d, err := s.Store.Delivery(ctx, in.ID)
			return s.deliveryBody(d, err)
		})
	part := operation("send-part", "PUT", "/deliveries/{id}/parts/{part}",
		"Send a part: JSON texts, each on a line of its own. A part that was taken before changes "+
			"nothing", "deliveries",
		400, 404, 409, 413, 422, 429)
	part.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{
		api.PartMedia: {Schema: &huma.Schema{Type: "string"}}}}
	part.MaxBodyBytes = api.MaxPart
	part.Metadata = map[string]any{streamed: true, heavy: parts}
	huma.Register(s.api, part, func(ctx context.Context, in *partInput) (*body[api.Delivery], error) {
		d, err := s.Store.Delivery(ctx, in.ID)
		if err != nil {
			return nil, s.failure(err)
		}
		if err := mayDeliver(ctx, d.Kind); err != nil {
			return nil, err
		}
		lines, defects, err := readLines(in.body, map[string]lineReader{
			"holding": fileLine, "estate": estateLine}[d.Kind])
		in.read()
		switch {
		case err != nil:
			return nil, unreadable(err)
		case len(defects) > 0:
			return nil, invalid(detailsOf(defects, d.Lines))
		case d.Lines+len(lines) > api.MaxLines:
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("a delivery has at most %d lines", api.MaxLines))
		}
		d, err = s.Store.TakePart(ctx, in.ID, in.Part, lines)
		return s.deliveryBody(d, err)
	})
	finish := operation("finish-delivery", "POST", "/deliveries/{id}/finish",
		"Finish a delivery: all of it counts from now on, or nothing where some of it is "+
			"wrong", "deliveries", 404, 409, 422)
	type finishInput struct {
		ID   int64 `path:"id" minimum:"1"`
		Body api.DeliveryFinish
	}
	finish.Metadata = map[string]any{heavy: finishes}
	huma.Register(s.api, finish, func(ctx context.Context, in *finishInput) (*body[api.DeliveryResult], error) {
		// A million files take minutes. A caller that goes away and asks again gets what has become of it.
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), finishTime)
		defer cancel()
		result, err := s.Store.FinishDelivery(ctx, in.ID, in.Body.Lines,
			func(tx *store.Tx, d store.Delivery) (api.DeliveryResult, error) {
				if err := mayDeliver(ctx, d.Kind); err != nil {
					return api.DeliveryResult{}, err
				}
				if d.Kind == "holding" {
					return s.finishHolding(ctx, tx, d)
				}
				return s.finishEstate(ctx, tx, d)
			})
		if err != nil {
			return nil, s.failure(err)
		}
		switch {
		case result.Holding != nil:
			told(ctx, result.Holding.Name, nil, map[string]int{"files": result.Holding.Files})
		case result.Imported != nil:
			told(ctx, "estate", nil, result.Imported)
		}
		return &body[api.DeliveryResult]{result}, nil
	})
	huma.Register(s.api, operation("remove-delivery", "DELETE", "/deliveries/{id}", "Give up a delivery", "deliveries",
		404), func(ctx context.Context, in *byID) (*struct{}, error) {
		if err := s.Store.RemoveDelivery(ctx, in.ID); err != nil {
			return nil, s.failure(err)
		}
		return nil, nil
	})
}

// mayDeliver refuses an estate, with its policies and trust stores, from whoever is no administrator.
func mayDeliver(ctx context.Context, kind string) error {
	if who := auth.From(ctx); kind == "estate" && who.Role != auth.Administrator {
		return huma.Error403Forbidden("an estate with its policies and trust stores is imported by administrators, " +
			"and your role is " + string(who.Role))
	}
	return nil
}

func (s *server) deliveryBody(d store.Delivery, err error) (*body[api.Delivery], error) {
	if err != nil {
		return nil, s.failure(err)
	}
	return &body[api.Delivery]{api.Delivery{ID: d.ID, NextPart: d.NextPart, Lines: d.Lines, Result: d.Result}}, nil
}

// headerDefects checks what is said of a delivery beside its lines.
func (s *server) headerDefects(ctx context.Context, in api.DeliveryStart) ([]error, error) {
	switch {
	case in.Kind == "holding" && in.Holding == nil:
		return []error{&huma.ErrorDetail{Message: "a holding has a name", Location: "body.holding"}}, nil
	case in.Kind == "estate" && in.Estate == nil:
		return []error{&huma.ErrorDetail{Message: "say whether the estate replaces what is there",
			Location: "body.estate"}}, nil
	case in.Holding == nil:
		return nil, nil
	}
	known, err := s.known(ctx)
	if err != nil {
		return nil, s.failure(err)
	}
	return holdingDefects(holdingOfHeader(*in.Holding), known), nil
}

func holdingOfHeader(in api.HoldingHeader) store.Holding {
	h := store.Holding{Name: in.Name, Policy: in.Policy, Trust: orEmpty(in.Trust), Audiences: orEmpty(in.Audiences)}
	if h.Policy == "" {
		h.Policy = policy.Default
	}
	return h
}

func (s *server) finishHolding(ctx context.Context, tx *store.Tx, d store.Delivery) (api.DeliveryResult, error) {
	h := holdingOfHeader(*d.Header.Holding)
	if err := s.Queue.TakeHolding(ctx, tx, &h, d); err != nil {
		return api.DeliveryResult{}, err
	}
	out := holdingOf(h)
	return api.DeliveryResult{Holding: &out}, nil
}

// finishEstate takes in an estate, all of it or nothing.
func (s *server) finishEstate(ctx context.Context, tx *store.Tx, d store.Delivery) (api.DeliveryResult, error) {
	var stores []store.TrustStore
	var policies []api.NamedPolicy
	var endpoints []store.Endpoint
	var places []int
	err := tx.EachLine(d.ID, func(row store.DeliveryLine) error {
		var l api.EstateLine
		if err := json.Unmarshal([]byte(*row.Payload), &l); err != nil {
			return err
		}
		switch {
		case l.Store != nil:
			stores = append(stores, s.storeOf(*l.Store))
		case l.Policy != nil:
			policies = append(policies, *l.Policy)
		case l.Endpoint != nil:
			endpoints = append(endpoints, store.Endpoint{Target: l.Endpoint.Endpoint, Settings: *l.Endpoint,
				Latest: store.Latest{Codes: []string{}}})
			places = append(places, row.Number)
		}
		return nil
	})
	if err != nil {
		return api.DeliveryResult{}, err
	}
	known, err := s.known(ctx)
	if err != nil {
		return api.DeliveryResult{}, err
	}
	for _, t := range stores {
		known.Stores[t.Name] = true
	}
	for _, p := range policies {
		known.Policies[p.Name] = true
	}
	var defects []lineDefect
	for i := range endpoints {
		for _, wrong := range endpoints[i].Settings.Settle(known) {
			defects = append(defects, lineDefect{places[i], "endpoint." + wrong.Field, wrong.Err})
		}
	}
	if len(defects) > 0 {
		return api.DeliveryResult{}, invalid(detailsOf(defects, 0))
	}
	if err := tx.PutTrustStores(stores); err != nil {
		return api.DeliveryResult{}, err
	}
	for _, p := range policies {
		if _, err := tx.SavePolicy(p.Name, p.Text, s.Now()); err != nil {
			return api.DeliveryResult{}, err
		}
	}
	count, err := tx.PutEndpoints(endpoints, d.Header.Estate.Replace, s.Now())
	imported := api.Imported(count)
	return api.DeliveryResult{Imported: &imported}, err
}

func (s *server) storeOf(t api.TrustStore) store.TrustStore {
	out := store.TrustStore{Name: t.Name, Anchors: []store.Anchor{}, UpdatedAt: s.Now()}
	for _, a := range t.Anchors {
		out.Anchors = append(out.Anchors, store.Anchor{DER: a.DER, Kind: trust.Kind(a.Kind)})
	}
	return out
}

// detailsOf tells defects with their lines, counted over all parts.
func detailsOf(defects []lineDefect, before int) []error {
	var out []error
	for _, d := range defects {
		place := fmt.Sprintf("line %d", before+d.line)
		if d.field != "" {
			place += ": " + d.field
		}
		out = append(out, &huma.ErrorDetail{Message: messageOf(d.err), Location: place})
	}
	return out
}

// unreadable is the answer to a part that could not be read.
func unreadable(err error) error {
	var tooLarge *http.MaxBytesError
	switch {
	case errors.Is(err, errSecret):
		return huma.Error400BadRequest(secretReason)
	case errors.As(err, &tooLarge):
		return huma.NewError(http.StatusRequestEntityTooLarge,
			fmt.Sprintf("a part has at most %d MiB; send smaller ones",
				api.MaxPart>>20))
	}
	return huma.Error400BadRequest("the part was cut off; send it again")
}
