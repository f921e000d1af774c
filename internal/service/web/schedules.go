package web

import (
	"context"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"nurvik/core/plain"
	"nurvik/internal/api"
	"nurvik/internal/service/schedule"
	"nurvik/internal/service/store"
)

func (s *server) registerSchedules() {
	huma.Register(s.api, operation("list-schedules", "GET", "/schedules", "What begins audits by itself", "audits"),
		func(ctx context.Context, _ *struct{}) (*body[[]api.Schedule], error) {
			list, err := s.Store.Schedules(ctx)
			if err != nil {
				return nil, s.failure(err)
			}
			out := make([]api.Schedule, len(list))
			for i, row := range list {
				if out[i], err = s.scheduleOf(ctx, row); err != nil {
					return nil, s.failure(err)
				}
			}
			return &body[[]api.Schedule]{out}, nil
		})
	add := operation("add-schedule", "POST", "/schedules",
		"Let audits begin by themselves: the first one now with every, or at the next of the times of the day",
		"audits",
		409, 422)
	add.DefaultStatus = 201
	huma.Register(s.api, add, func(ctx context.Context, in *body[api.ScheduleStart]) (*tagged[api.Schedule], error) {
		row := store.Schedule{CreatedAt: s.Now()}
		if err := s.setSchedule(&row, in.Body); err != nil {
			return nil, err
		}
		told(ctx, row.Name, nil, in.Body)
		if err := s.Store.AddSchedule(ctx, &row); err != nil {
			return nil, s.failure(err)
		}
		return s.scheduleBody(ctx, row)
	})
	type changeInput struct {
		ID      int64  `path:"id" minimum:"1"`
		IfMatch string `header:"If-Match" maxLength:"1000" doc:"The schedule's tag in quotes; it is refused where the schedule has another by now"`
		Body    api.ScheduleStart
	}
	huma.Register(s.api, operation("change-schedule", "PUT", "/schedules/{id}",
		"Change a schedule, which then begins anew; an audit that is under way goes on", "audits", 404, 409, 412, 422),
		func(ctx context.Context, in *changeInput) (*tagged[api.Schedule], error) {
			row, err := s.Store.Schedule(ctx, in.ID)
			if err != nil {
				return nil, s.failure(err)
			}
			before := api.ScheduleStart{Name: row.Name, ScheduleSettings: row.Settings}
			if err := s.setSchedule(&row, in.Body); err != nil {
				return nil, err
			}
			told(ctx, before.Name, before, in.Body)
			if err := s.Store.ChangeSchedule(ctx, row, in.IfMatch); err != nil {
				return nil, s.failure(err)
			}
			return s.scheduleBody(ctx, row)
		})
	huma.Register(s.api, operation("remove-schedule", "DELETE", "/schedules/{id}",
		"Remove a schedule; its audits stay, and one that is under way goes on", "audits", 404, 409, 412),
		func(ctx context.Context, in *changeByID) (*struct{}, error) {
			row, err := s.Store.Schedule(ctx, in.ID)
			if err != nil {
				return nil, s.failure(err)
			}
			told(ctx, row.Name, api.ScheduleStart{Name: row.Name, ScheduleSettings: row.Settings}, nil)
			if err := s.Store.RemoveSchedule(ctx, in.ID, in.IfMatch); err != nil {
				return nil, s.failure(err)
			}
			return nil, nil
		})
}

// setSchedule checks settings and puts them into the record, with the time of the next audit. Where when it is due has
// not changed, as with another name, the time stays.
func (s *server) setSchedule(row *store.Schedule, in api.ScheduleStart) error {
	var details []error
	wrong := func(setting, words string) {
		details = append(details, &huma.ErrorDetail{Message: words, Location: "body." + setting})
	}
	checked, defects := schedule.New(in.ScheduleSettings)
	for _, d := range defects {
		wrong(d.Setting, d.Words)
	}
	if strings.TrimSpace(in.Name) == "" {
		wrong("name", "a schedule has a name")
	}
	for setting, text := range map[string]string{"name": in.Name, "label": in.Label} {
		if err := plain.Check(text, false); err != nil {
			wrong(setting, err.Error())
		}
	}
	if !IsLabel(in.Label) {
		wrong("label", "a label is KEY=VALUE")
	}
	if len(details) > 0 {
		return invalid(details)
	}
	same := row.NextAt != nil && !in.Paused && schedule.Words(row.Settings) == schedule.Words(in.ScheduleSettings)
	row.Name, row.Settings = strings.TrimSpace(in.Name), in.ScheduleSettings
	if same {
		return nil
	}
	row.NextAt = nil
	if in.Paused {
		return nil
	}
	next := checked.First(s.Now())
	if next.IsZero() {
		wrong("quiet", "no time is left for an audit")
		return invalid(details)
	}
	row.NextAt = &next
	return nil
}

// IsLabel reports whether the text is KEY=VALUE, or nothing.
func IsLabel(text string) bool {
	key, value, labelled := strings.Cut(text, "=")
	return text == "" || labelled && key != "" && value != ""
}

func (s *server) scheduleBody(ctx context.Context, row store.Schedule) (*tagged[api.Schedule], error) {
	view, err := s.scheduleOf(ctx, row)
	if err != nil {
		return nil, s.failure(err)
	}
	return withTag(view.Tag, view), nil
}

func (s *server) scheduleOf(ctx context.Context, row store.Schedule) (api.Schedule, error) {
	view := api.Schedule{ID: row.ID, Tag: row.Tag(),
		ScheduleStart: api.ScheduleStart{Name: row.Name, ScheduleSettings: row.Settings},
		Words:         schedule.Words(row.Settings), Next: row.NextAt, Last: row.LastAt, Skipped: row.Skipped}
	if checked, defects := schedule.New(row.Settings); len(defects) == 0 && row.NextAt != nil {
		// One that is overdue begins when it is quiet no more.
		later := checked.Allowed(latest(*row.NextAt, s.Now())).UTC()
		view.Next = &later
	}
	var err error
	if view.Endpoints, err = s.Store.CountEndpoints(ctx, row.Selection()); err != nil || row.AuditID == nil {
		return view, err
	}
	a, err := s.Store.Audit(ctx, *row.AuditID)
	if err != nil {
		return view, err
	}
	audit, err := s.auditOf(ctx, a)
	view.Audit = &audit
	return view, err
}

func latest(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}
