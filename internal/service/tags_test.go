package service_test

import (
	"context"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/api"
	"nurvik/internal/client"
)

// TestTags: whoever changes what somebody else has changed meanwhile is told so, and undoes nothing.
func TestTags(t *testing.T) {
	ctx, c := t.Context(), shared.client
	e, err := c.AddEndpoint(ctx, api.EndpointSettings{Endpoint: "slip.tarnholm.example"})
	require.NoError(t, err)
	s, err := c.AddSchedule(ctx, api.ScheduleStart{Name: "slip", ScheduleSettings: api.ScheduleSettings{Every: 6,
		Paused: true}})
	require.NoError(t, err)
	policy := func(about string) string { return "name: slip\nabout: " + about + "\ninherits: open-web\n" }
	p, err := c.SavePolicy(ctx, "slip", policy("first"))
	require.NoError(t, err)
	at := func(path string, id int64) string { return path + "/" + jsonNumber(id) }
	tests := []struct {
		name, path, tag string
		change          func(c *client.Client, to string) (tag string, err error)
		remove          func(c *client.Client) error
	}{
		{"endpoint", at("/endpoints", e.ID), e.Tag, func(c *client.Client, to string) (string, error) {
			e, err := c.ChangeEndpoint(ctx, e.ID, api.EndpointSettings{Endpoint: "slip.tarnholm.example",
				Labels: map[string]string{"about": to}})
			return e.Tag, err
		}, func(c *client.Client) error { return c.RemoveEndpoint(ctx, e.ID) }},
		{"schedule", "", s.Tag, func(c *client.Client, to string) (string, error) {
			s, err := c.ChangeSchedule(ctx, s.ID, api.ScheduleStart{Name: to, ScheduleSettings: api.ScheduleSettings{
				Every: 6, Paused: true}})
			return s.Tag, err
		}, func(c *client.Client) error { return c.RemoveSchedule(ctx, s.ID) }},
		{"policy", "/policies/slip", p.Tag, func(c *client.Client, to string) (string, error) {
			p, err := c.SavePolicy(ctx, "slip", policy(to))
			return p.Tag, err
		}, func(c *client.Client) error { return c.RemovePolicy(ctx, "slip") }},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			second, err := tt.change(c.If(tt.tag), "second")
			require.NoError(t, err)
			require.NotEqual(t, tt.tag, second)
			_, err = tt.change(c.If(tt.tag), "late")
			assert.Equal(t, 412, status(err))
			assert.ErrorContains(t, err, "somebody else has changed this")
			assert.Equal(t, 412, status(tt.remove(c.If(tt.tag))))
			if tt.path != "" {
				response, err := http.Get(shared.address + "/api/v1" + tt.path)
				require.NoError(t, err)
				require.NoError(t, response.Body.Close())
				assert.Equal(t, `"`+second+`"`, response.Header.Get("ETag"))
			}
			// Of many that have read the same, one wins.
			var won atomic.Int32
			var group sync.WaitGroup
			for i := range 8 {
				group.Go(func() {
					_, err := tt.change(c.If(second), "third "+strings.Repeat("x", i))
					if err == nil {
						won.Add(1)
					} else {
						assert.Equal(t, 412, status(err), err)
					}
				})
			}
			group.Wait()
			assert.EqualValues(t, 1, won.Load())
			last, err := tt.change(c, "fourth") // who asks for nothing gets it
			require.NoError(t, err)
			require.NoError(t, tt.remove(c.If(last)))
			_, err = tt.change(c.If(last), "fifth")
			assert.Contains(t, []int{404, 412}, status(err), "it is gone")
		})
	}
	for header, want := range map[string]int{"*": 200, `"x", "y"`: 412, "x": 412} {
		e, err := c.AddEndpoint(ctx, api.EndpointSettings{Endpoint: "slip.tarnholm.example"})
		require.NoError(t, err)
		got, _, _ := send(t, "PUT", "/api/v1/endpoints/"+jsonNumber(e.ID), `{"endpoint": "slip.tarnholm.example"}`,
			map[string]string{"If-Match": header, "Content-Type": "application/json"})
		assert.Equal(t, want, got, header)
		require.NoError(t, c.RemoveEndpoint(context.Background(), e.ID))
	}
}
