package web

import (
	"context"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"nurvik/internal/api"
)

func (s *server) registerWorkers() {
	huma.Register(s.api, operation("list-workers", "GET", "/workers", "The processes that visit and judge", "audits"),
		func(ctx context.Context, _ *struct{}) (*body[[]api.Worker], error) {
			list, err := s.Store.Workers(ctx)
			if err != nil {
				return nil, s.failure(err)
			}
			out := make([]api.Worker, len(list))
			for i, w := range list {
				out[i] = api.Worker{Name: strings.TrimPrefix(w.Instance, "nurvikd-"), Kind: w.Kind, Vantage: w.Vantage,
					Host: w.Host, Through: w.Through, Version: w.Version, Started: w.StartedAt, Seen: w.BeatAt,
					Running: w.Running, Visits: w.Visits}
			}
			return &body[[]api.Worker]{out}, nil
		})
}
