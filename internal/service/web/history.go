package web

import (
	"context"
	"maps"
	"slices"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"nurvik/core/history"
	"nurvik/core/judge"
	"nurvik/internal/api"
	"nurvik/internal/service/store"
)

// Bounds of reading a history: so many examinations are read at once, and in all for one answer.
const (
	historyBatch = 20
	historyMost  = 200
)

func (s *server) registerHistory() {
	type input struct {
		ID     int64  `path:"id" minimum:"1"`
		Cursor string `query:"cursor" maxLength:"20"`
		Limit  int    `query:"limit" minimum:"1" maximum:"100" default:"20"`
	}
	get := operation("get-history", "GET", "/endpoints/{id}/history",
		"What has changed at an endpoint from audit to audit, the newest first; an empty page may have a next one",
		"estate", 404, 422)
	get.Metadata = map[string]any{heavy: histories}
	huma.Register(s.api, get,
		func(ctx context.Context, in *input) (*body[api.HistoryPage], error) {
			if _, err := s.Store.Endpoint(ctx, in.ID); err != nil {
				return nil, s.failure(err)
			}
			var until int64
			if in.Cursor != "" {
				var err error
				if until, err = strconv.ParseInt(in.Cursor, 10, 64); err != nil || until < 1 {
					return nil, s.failure(store.ErrCursor)
				}
			}
			page, err := s.history(ctx, in.ID, until, in.Limit)
			if err != nil {
				return nil, s.failure(err)
			}
			return &body[api.HistoryPage]{page}, nil
		})
}

func (s *server) registerDifference() {
	type input struct {
		ID   int64 `path:"id" minimum:"1"`
		From int64 `query:"from" minimum:"1" required:"true" doc:"An audit: how the endpoint was then, even if that audit was not about it"`
		To   int64 `query:"to" minimum:"0" doc:"A later audit; 0 is the newest"`
	}
	get := operation("get-difference", "GET", "/endpoints/{id}/history/difference",
		"What has changed at an endpoint between any two audits", "estate", 404, 422)
	get.Metadata = map[string]any{heavy: histories}
	huma.Register(s.api, get, func(ctx context.Context, in *input) (*body[api.HistoryEntry], error) {
		if _, err := s.Store.Endpoint(ctx, in.ID); err != nil {
			return nil, s.failure(err)
		}
		if in.To > 0 && in.To < in.From {
			return nil, huma.Error422UnprocessableEntity("the second audit is before the first",
				&huma.ErrorDetail{Message: "it is the later of the two", Location: "query.to"})
		}
		var both [2]store.PastExamination
		for i, audit := range []int64{in.From, in.To} {
			rows, err := s.Store.History(ctx, in.ID, audit, 1)
			if err != nil {
				return nil, s.failure(err)
			}
			if len(rows) == 0 {
				return nil, huma.Error404NotFound("the endpoint had not been examined by then")
			}
			both[i] = rows[0]
		}
		e, _ := step(both[0], both[1])
		return &body[api.HistoryEntry]{e}, nil
	})
}

func (s *server) history(ctx context.Context, endpoint, until int64, limit int) (api.HistoryPage, error) {
	page := api.HistoryPage{Items: []api.HistoryEntry{}}
	var newer *store.PastExamination
	for range historyMost / historyBatch {
		rows, err := s.Store.History(ctx, endpoint, until, historyBatch)
		if err != nil {
			return page, err
		}
		for i := range rows {
			if newer != nil {
				if e, changed := step(rows[i], *newer); changed {
					page.Items = append(page.Items, e)
				}
			}
			newer = &rows[i]
			if len(page.Items) == limit {
				page.Next = strconv.FormatInt(newer.AuditID, 10)
				return page, nil
			}
		}
		if len(rows) < historyBatch {
			if newer != nil {
				page.Items = append(page.Items, api.HistoryEntry{AuditID: newer.AuditID, At: newer.Began,
					Verdict: newer.Verdict, First: true, Changes: []string{}, Appeared: []string{}, Gone: []string{}})
			}
			return page, nil
		}
		until = newer.AuditID - 1
	}
	page.Next = strconv.FormatInt(newer.AuditID, 10)
	return page, nil
}

// step is what changed from one examination to the next.
func step(before, after store.PastExamination) (api.HistoryEntry, bool) {
	e := api.HistoryEntry{AuditID: after.AuditID, At: after.Began, Verdict: after.Verdict, Changes: []string{},
		Appeared: []string{}, Gone: []string{}}
	if before.Verdict != after.Verdict {
		e.Before = before.Verdict
	}
	if before.Facts != nil && after.Facts != nil {
		e.Changes = append(e.Changes, history.Between(*before.Facts, *after.Facts)...)
	}
	unreachable := string(judge.Unreachable) // such an audit says nothing of other findings
	if before.Verdict != unreachable && after.Verdict != unreachable && before.Judgement != nil &&
		after.Judgement != nil {
		appeared, gone := without(*after.Judgement, *before.Judgement), without(*before.Judgement, *after.Judgement)
		for code := range appeared { // a code in both is as it was, about another certificate
			if gone[code] {
				delete(appeared, code)
				delete(gone, code)
			}
		}
		e.Appeared = slices.AppendSeq(e.Appeared, maps.Keys(appeared))
		e.Gone = slices.AppendSeq(e.Gone, maps.Keys(gone))
		slices.Sort(e.Appeared)
		slices.Sort(e.Gone)
	}
	return e, e.Before != "" || len(e.Changes)+len(e.Appeared)+len(e.Gone) > 0
}

// without are the codes of the findings of one judgement that the other does not have.
func without(one, other judge.Judgement) map[string]bool {
	known, codes := map[string]bool{}, map[string]bool{}
	for _, f := range other.Findings {
		known[judge.Identity(other.Target, f)] = true
	}
	for _, f := range one.Findings {
		if !known[judge.Identity(one.Target, f)] {
			codes[f.Code] = true
		}
	}
	return codes
}
