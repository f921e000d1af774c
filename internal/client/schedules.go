package client

import (
	"context"
	"net/http"
	"strconv"

	"nurvik/internal/api"
)

// Schedules returns what begins audits by itself, by name.
func (c *Client) Schedules(ctx context.Context) (list []api.Schedule, err error) {
	return list, c.call(ctx, http.MethodGet, "/schedules", nil, &list)
}

// FindSchedule returns the schedule of that name.
func (c *Client) FindSchedule(ctx context.Context, name string) (api.Schedule, error) {
	list, err := c.Schedules(ctx)
	for _, s := range list {
		if s.Name == name {
			return s, nil
		}
	}
	if err != nil {
		return api.Schedule{}, err
	}
	return api.Schedule{}, &Problem{Status: http.StatusNotFound,
		Detail: "there is no schedule " + strconv.Quote(name) + "; \"nurvik schedule list\" shows those there are"}
}

// AddSchedule makes one.
func (c *Client) AddSchedule(ctx context.Context, in api.ScheduleStart) (s api.Schedule, err error) {
	return s, c.call(ctx, http.MethodPost, "/schedules", in, &s)
}

// ChangeSchedule changes one.
func (c *Client) ChangeSchedule(ctx context.Context, id int64, in api.ScheduleStart) (s api.Schedule, err error) {
	return s, c.call(ctx, http.MethodPut, "/schedules/"+strconv.FormatInt(id, 10), in, &s)
}

// RemoveSchedule removes one.
func (c *Client) RemoveSchedule(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, "/schedules/"+strconv.FormatInt(id, 10), nil, nil)
}
