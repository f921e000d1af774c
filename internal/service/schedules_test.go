package service_test

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/endpoint"
	"nurvik/internal/api"
	"nurvik/internal/client"
	"nurvik/internal/service/jobs"
	"nurvik/internal/service/store"
)

// TestSchedules: audits begin by themselves, once, when they are due and may.
func TestSchedules(t *testing.T) {
	importHarbour(t)
	ctx, c := t.Context(), shared.client
	label := func(target, value string) int64 {
		e, err := c.FindEndpoint(ctx, target)
		require.NoError(t, err)
		settings := e.EndpointSettings
		settings.Labels = map[string]string{"watch": value}
		_, err = c.ChangeEndpoint(ctx, e.ID, settings)
		require.NoError(t, err)
		return e.ID
	}
	cranes, tides := label("cranes.tarnholm.example:443", "east"), label("tides.tarnholm.example:443", "east")
	label("ferries.tarnholm.example:443", "west")
	find := func(name string) api.Schedule {
		s, err := c.FindSchedule(ctx, name)
		require.NoError(t, err)
		return s
	}
	add := func(name string, settings api.ScheduleSettings) api.Schedule {
		s, err := c.AddSchedule(ctx, api.ScheduleStart{Name: name, ScheduleSettings: settings})
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.RemoveSchedule(context.Background(), s.ID) })
		return s
	}
	due := func(s api.Schedule, ago string) {
		execute(t, shared.data, fmt.Sprintf("UPDATE schedules SET next_at = now() - interval '%s' WHERE id = %d", ago,
			s.ID))
	}
	eventually := func(is func() bool, words string) {
		require.Eventually(t, is, time.Minute, 100*time.Millisecond, words)
	}

	t.Run("settings", func(t *testing.T) {
		named := func(s api.ScheduleSettings) api.ScheduleStart {
			return api.ScheduleStart{Name: "x", ScheduleSettings: s}
		}
		first := add("first", api.ScheduleSettings{Every: 24, Paused: true})
		assert.Nil(t, first.Next)
		for name, tt := range map[string]struct {
			want  api.ScheduleStart
			words string
		}{
			"no name": {api.ScheduleStart{ScheduleSettings: api.ScheduleSettings{Every: 1}}, "name"},
			"a taken name": {api.ScheduleStart{Name: "first", ScheduleSettings: api.ScheduleSettings{Every: 1}},
				"name"},
			"neither":      {api.ScheduleStart{Name: "x"}, "at which times of the day"},
			"an old habit": {named(api.ScheduleSettings{At: []string{"2am"}}), "02:30"},
			"a name that steers": {api.ScheduleStart{Name: "x\x1b[2J",
				ScheduleSettings: api.ScheduleSettings{Every: 1}},
				"steers terminals"},
			"half a label":  {named(api.ScheduleSettings{Every: 1, Label: "a"}), "KEY=VALUE"},
			"a day of ours": {named(api.ScheduleSettings{Every: 1, Days: []string{"quayday"}}), "mon"},
		} {
			_, err := c.AddSchedule(ctx, tt.want)
			assert.ErrorContains(t, err, tt.words, name)
		}
		first.Paused = false
		changed, err := c.ChangeSchedule(ctx, first.ID, api.ScheduleStart{Name: "first",
			ScheduleSettings: api.ScheduleSettings{At: []string{"02:00"}, Zone: "Europe/Oslo", Label: "watch=west"}})
		require.NoError(t, err)
		assert.Equal(t, 1, changed.Endpoints)
		assert.Equal(t, "at 02:00 (Europe/Oslo)", changed.Words)
		require.NotNil(t, changed.Next)
		renamed, err := c.ChangeSchedule(ctx, first.ID, api.ScheduleStart{Name: "west",
			ScheduleSettings: changed.ScheduleSettings})
		require.NoError(t, err)
		assert.WithinDuration(t, *changed.Next, *renamed.Next, 0, "another name changes nothing of the time")
		execute(t, shared.data, "UPDATE schedules SET next_at = now() + interval '300 days' WHERE name = 'west'")
		eventually(func() bool { return find("west").Next.Equal(*changed.Next) }, "after a clock was put back")
		require.NoError(t, c.RemoveSchedule(ctx, first.ID))
		assert.ErrorContains(t, c.RemoveSchedule(ctx, first.ID), "no such record")
	})

	t.Run("by themselves", func(t *testing.T) {
		s := add("west", api.ScheduleSettings{Every: 2, Label: "watch=west"})
		eventually(func() bool { s = find("west"); return s.Audit != nil && s.Audit.Final() },
			"the first begins at once")
		assert.Equal(t, []any{"finished", "west", "", 1}, []any{s.Audit.State, s.Audit.Schedule, s.Audit.By,
			s.Audit.Endpoints})
		assert.WithinDuration(t, s.Last.Add(2*time.Hour), *s.Next, time.Second)
		due(s, "7 hours")
		first := s.Audit.ID
		eventually(func() bool { s = find("west"); return s.Audit.ID != first && s.Audit.Final() },
			"those that were missed")
		assert.WithinDuration(t, time.Now().Add(2*time.Hour), *s.Next, time.Minute, "are one")

		_, err := c.ChangeSchedule(ctx, s.ID, api.ScheduleStart{Name: "west",
			ScheduleSettings: api.ScheduleSettings{Every: 2, Label: "watch=nobody"}})
		require.NoError(t, err)
		due(s, "1 second")
		eventually(func() bool { return find("west").Skipped != "" }, "nothing to do")
		assert.Contains(t, find("west").Skipped, "no endpoint has the label watch=nobody")
		now := time.Now().UTC()
		_, err = c.ChangeSchedule(ctx, s.ID, api.ScheduleStart{Name: "west", ScheduleSettings: api.ScheduleSettings{
			Every: 2, Quiet: now.Add(-time.Hour).Format("15:04") + "-" + now.Add(time.Hour).Format("15:04")}})
		require.NoError(t, err)
		due(s, "1 second")
		assert.WithinDuration(t, now.Add(time.Hour), *find("west").Next, time.Minute, "after the quiet hours")
	})

	t.Run("endpoints that name one", func(t *testing.T) {
		s := add("moorings", api.ScheduleSettings{Every: 5, Label: "watch=moorings", Paused: true})
		other := add("rest", api.ScheduleSettings{Every: 6, Label: "watch=west", Paused: true})
		assert.Equal(t, []int{0, 1}, []int{s.Endpoints, other.Endpoints})
		list, err := c.Endpoints(ctx, client.EndpointFilter{Label: "watch=west"})
		require.NoError(t, err)
		require.Len(t, list, 1)
		settings := list[0].EndpointSettings
		settings.Schedule = "nowhere"
		_, err = c.ChangeEndpoint(ctx, list[0].ID, settings)
		assert.ErrorContains(t, err, `there is no schedule "nowhere"`)
		settings.Schedule = "moorings"
		_, err = c.ChangeEndpoint(ctx, list[0].ID, settings)
		require.NoError(t, err)
		assert.Equal(t, []int{1, 0}, []int{find("moorings").Endpoints, find("rest").Endpoints},
			"it is audited by the one that it names, and by no other")
		assert.ErrorContains(t, c.RemoveSchedule(ctx, s.ID), "endpoints name this schedule")

		_, err = c.ChangeSchedule(ctx, s.ID, api.ScheduleStart{Name: "berths", ScheduleSettings: s.ScheduleSettings})
		require.NoError(t, err)
		x, err := c.Examination(ctx, list[0].ID)
		require.NoError(t, err)
		assert.Equal(t, "berths", x.Endpoint.Schedule, "another name is taken over")
		none := ""
		_, err = c.BulkChange(ctx, api.BulkChange{Filter: api.EndpointFilter{Label: "watch=west"},
			Set: api.BulkSettings{Schedule: &none}})
		require.NoError(t, err)
		assert.Equal(t, 1, find("rest").Endpoints)
		require.NoError(t, c.RemoveSchedule(ctx, s.ID))
		require.NoError(t, c.RemoveSchedule(ctx, other.ID))
	})

	t.Run("spread", func(t *testing.T) {
		s := add("east", api.ScheduleSettings{Every: 3, Spread: 120, Label: "watch=east"})
		eventually(func() bool { s = find("east"); return s.Audit != nil && s.Audit.Visits == 2 }, "it is planned")
		jobs := fmt.Sprintf("river_job WHERE kind = 'visit' AND (args ->> 'audit_id')::bigint = %d", s.Audit.ID)
		far := "SELECT count(*) FROM " + jobs + " AND scheduled_at > now() + interval '10 seconds' AND priority = 3"
		waiting := count(t, shared.data, far)
		require.Positive(t, waiting, "the second in the second hour")
		time.Sleep(6 * time.Second) // a sweep
		assert.Equal(t, waiting, count(t, shared.data, far), "they stay where they were put")
		due(s, "1 second")
		eventually(func() bool { return find("east").Skipped != "" }, "one at a time")
		assert.Contains(t, find("east").Skipped, "still under way")

		release := func(which string) {
			execute(t, shared.data, "UPDATE river_job SET state = 'available', scheduled_at = now() WHERE "+
				"id IN (SELECT id FROM "+
				jobs+" AND state IN ('scheduled', 'available', 'retryable') "+which+")")
		}
		quiet := func(hours string) {
			execute(t, shared.data, fmt.Sprintf("UPDATE audits SET schedule_settings = jsonb_set(schedule_settings, "+
				"'{quiet}', '%q') WHERE id = %d", hours, s.Audit.ID))
		}
		done := func() int { return find("east").Audit.Done }
		now := time.Now().UTC()
		quiet(now.Add(-time.Hour).Format("15:04") + "-" + now.Add(time.Hour).Format("15:04"))
		before := done()
		release("")
		time.Sleep(3 * time.Second)
		assert.Equal(t, before, done(), "nothing is visited in quiet hours")
		quiet("")
		of := func(id int64) string {
			return fmt.Sprintf("AND (args ->> 'visit_id')::bigint IN (SELECT id FROM visits WHERE endpoint_id = %d)",
				id)
		}
		release(of(cranes))
		eventually(func() bool { return done() == 1 }, "the first is visited")
		later := auditOf(t, api.AuditStart{EndpointIDs: []int64{cranes}})
		release(of(tides))
		eventually(func() bool { return find("east").Audit.State == "finished" }, "the other is, too")
		e, err := c.Examination(ctx, cranes)
		require.NoError(t, err)
		assert.Equal(t, later.ID, *e.Endpoint.AuditID, "what was seen later counts, whichever audit ends last")
		e, err = c.Examination(ctx, tides)
		require.NoError(t, err)
		assert.Equal(t, s.Audit.ID, *e.Endpoint.AuditID)
	})
}

// TestSchedulesOnce: many processes begin an audit that is due once.
func TestSchedulesOnce(t *testing.T) {
	t.Parallel()
	server, data := other(t)
	var workers []*jobs.Queue
	for _, name := range []string{"quay", "pier", "dock"} {
		q := worker(t, server, name, nil)
		defer func() { _ = q.Stop(context.Background()) }()
		workers = append(workers, q)
	}
	require.NotContains(t, workers, (*jobs.Queue)(nil))
	s, err := store.Open(t.Context(), server.URL(), server.Dial)
	require.NoError(t, err)
	defer s.Close()
	now := s.Clock.Stamp()
	require.NoError(t, s.AddEndpoint(t.Context(), &store.Endpoint{Target: "127.0.0.1:1", CreatedAt: now, UpdatedAt: now,
		Settings: endpoint.Settings{Endpoint: "127.0.0.1:1"}, Latest: store.Latest{Codes: []string{}}}))
	const many = 30
	for i := range many {
		require.NoError(t, s.AddSchedule(t.Context(), &store.Schedule{Name: fmt.Sprint("schedule ", i), NextAt: &now,
			Settings: api.ScheduleSettings{Every: 1}, CreatedAt: now}))
	}
	assert.Eventually(t, func() bool {
		return count(t, data, "SELECT count(*) FROM schedules WHERE next_at > now()") == many
	}, time.Minute, 100*time.Millisecond)
	assert.Equal(t, many, count(t, data, "SELECT count(*) FROM audits"))
}
