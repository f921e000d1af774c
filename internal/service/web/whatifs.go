package web

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"nurvik/core/pki"
	"nurvik/core/plain"
	"nurvik/core/policy"
	"nurvik/internal/api"
	"nurvik/internal/service/store"
)

func (s *server) registerWhatIfs() {
	start := operation("start-what-if", "POST", "/what-ifs",
		"Judge what was observed otherwise; the record stays as it is", "what-ifs", 422)
	start.DefaultStatus = 201
	start.MaxBodyBytes = largeBody
	huma.Register(s.api, start, func(ctx context.Context, in *body[api.WhatIfStart]) (*body[api.WhatIf], error) {
		question, err := s.question(ctx, in.Body)
		if err != nil {
			return nil, err
		}
		w, err := s.Queue.Ask(ctx, question)
		if err != nil {
			return nil, s.failure(err)
		}
		return &body[api.WhatIf]{whatIfOf(w)}, nil
	})
	type listInput struct {
		Cursor string `query:"cursor" maxLength:"1000"`
		Limit  int    `query:"limit" minimum:"1" maximum:"200" default:"20"`
	}
	huma.Register(s.api, operation("list-what-ifs", "GET", "/what-ifs", "List what-ifs, the newest first", "what-ifs",
		422),
		func(ctx context.Context, in *listInput) (*body[api.WhatIfPage], error) {
			list, next, err := s.Store.WhatIfs(ctx, in.Cursor, in.Limit)
			if err != nil {
				return nil, s.failure(err)
			}
			page := api.WhatIfPage{Items: []api.WhatIf{}, Next: next}
			for _, w := range list {
				page.Items = append(page.Items, whatIfOf(w))
			}
			return &body[api.WhatIfPage]{page}, nil
		})
	huma.Register(s.api, operation("get-what-if", "GET", "/what-ifs/{id}", "One what-if with all that would change",
		"what-ifs", 404),
		func(ctx context.Context, in *byID) (*body[api.WhatIfView], error) {
			w, err := s.Store.WhatIf(ctx, in.ID)
			if err != nil {
				return nil, s.failure(err)
			}
			rows, err := s.Store.WhatIfEndpoints(ctx, in.ID)
			if err != nil {
				return nil, s.failure(err)
			}
			view := api.WhatIfView{WhatIf: whatIfOf(w), Changes: []api.WhatIfEndpoint{}}
			for _, r := range rows {
				view.Changes = append(view.Changes, r.Result)
			}
			return &body[api.WhatIfView]{view}, nil
		})
	huma.Register(s.api, operation("remove-what-if", "DELETE", "/what-ifs/{id}", "Remove a what-if", "what-ifs", 404),
		func(ctx context.Context, in *byID) (*struct{}, error) {
			if err := s.Store.RemoveWhatIf(ctx, in.ID); err != nil {
				return nil, s.failure(err)
			}
			return nil, nil
		})
}

// question checks what is asked.
func (s *server) question(ctx context.Context, in api.WhatIfStart) (store.WhatIfQuestion, error) {
	q := store.WhatIfQuestion{EndpointIDs: in.EndpointIDs, At: s.Now(), Policy: in.Policy, PolicyText: in.PolicyText,
		Distrust: []string{}}
	var details []error
	fail := func(field string, err error) {
		details = append(details, &huma.ErrorDetail{Message: err.Error(), Location: "body." + field})
	}
	if in.At != nil {
		if q.At = *in.At; !plain.Time(q.At) {
			fail("at", errors.New("years are those from 0 to 9999"))
		}
	}
	for i, text := range in.Distrust {
		f, err := pki.ParseFingerprint(text)
		if err != nil {
			fail(fmt.Sprintf("distrust[%d]", i), err)
			continue
		}
		q.Distrust = append(q.Distrust, f.String())
	}
	switch {
	case in.Policy != "" && in.PolicyText != "":
		fail("policy", errors.New("name a policy or send one, not both"))
	case in.PolicyText != "":
		p, err := policy.Parse("policy", []byte(in.PolicyText))
		name := p.Name
		if err != nil {
			name = "policy"
		}
		q.Policy, details = name, append(details, policyDefects(name, in.PolicyText)...)
	case in.Policy != "":
		known, err := s.known(ctx)
		if err != nil {
			return q, s.failure(err)
		}
		if !known.Policies[in.Policy] {
			fail("policy", fmt.Errorf("there is no policy %q; \"nurvik policy list\" shows those there are", in.Policy))
		}
	}
	slices.Sort(q.EndpointIDs)
	q.EndpointIDs = slices.Compact(q.EndpointIDs) // so that they can be counted
	missing, err := s.Store.MissingEndpoint(ctx, q.EndpointIDs)
	if err != nil {
		return q, s.failure(err)
	}
	if missing != 0 {
		fail("endpoint_ids", fmt.Errorf("endpoint %d is not in the estate", missing))
	}
	if len(details) > 0 {
		return q, invalid(details)
	}
	return q, nil
}

func whatIfOf(w store.WhatIf) api.WhatIf {
	return api.WhatIf{ID: w.ID, State: w.State, At: w.Question.At, Policy: w.Question.Policy,
		Distrust: orEmpty(w.Question.Distrust), Selected: len(w.Question.EndpointIDs),
		CreatedAt: w.CreatedAt, FinishedAt: w.FinishedAt, Failure: w.Failure, Answer: w.Answer}
}
