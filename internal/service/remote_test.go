package service_test

import (
	"context"
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/internal/api"
	"nurvik/internal/client"
	"nurvik/internal/service"
)

// TestRemoteWorker: a worker that reaches nothing but the API visits for its vantage as one on the database does. It
// goes on when the service is started again, lets visits end when it is stopped, and ends when its token is taken back.
func TestRemoteWorker(t *testing.T) {
	t.Parallel()
	server, data := other(t)
	listen := free()
	config := service.Config{Database: server.URL(), Instance: "quay", Listen: listen, SignIn: letIn, Visits: 4}
	ctx := t.Context()
	var c *client.Client
	serve := func(t *testing.T) {
		address, setUp := begun(t, config)
		c = stranger(t, address)
		if setUp != "" {
			_, err := c.SetUp(ctx, api.SetUp{Code: strings.TrimPrefix(setUp, address+"/set-up#"),
				Name: "harbour-master", Password: password})
			require.NoError(t, err)
		} else {
			_, err := c.SignIn(ctx, "harbour-master", password)
			require.NoError(t, err)
		}
	}
	log, file := &syncBuffer{}, filepath.Join(t.TempDir(), "token")
	working, stop := context.WithCancel(context.Background())
	defer stop()
	ready, ended := make(chan struct{}), make(chan error, 1)
	worker := func(change func(*service.Config)) error {
		w := service.Config{Through: "http://" + listen, TokenFile: file, Instance: "pier", Visits: 3,
			Visitable: []string{"127.30.0.0/16", "127.54.0.0/24"}, Log: slog.New(slog.NewTextHandler(log, nil))}
		if change != nil {
			change(&w)
		}
		return service.Work(working, w, func() { close(ready) })
	}
	audited := func() api.Audit {
		t.Helper()
		audit, err := c.StartAudit(ctx, api.AuditStart{})
		require.NoError(t, err)
		audit, err = c.Follow(ctx, audit.ID, nil)
		require.NoError(t, err)
		return audit
	}
	var made api.NewToken
	t.Run("it visits, and nothing else does", func(t *testing.T) {
		serve(t)
		for what, in := range map[string]api.TokenStart{"no vantage": {Role: "worker"}, "no name": {Role: "worker",
			Vantage: "Outside!"}, "other role": {Role: "auditor", Vantage: "outside"}, "label": {Role: "worker",
			Vantage: "outside", Label: "team=cranes"}} {
			in.Name = what
			_, err := c.AddToken(ctx, in)
			assert.Equal(t, 422, status(err), what)
		}
		var err error
		made, err = c.AddToken(ctx, api.TokenStart{Name: "outside", Role: "worker", Vantage: "outside"})
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(file, []byte(made.Secret+"\n"), 0o600))
		own, err := client.New("http://"+listen, made.Secret)
		require.NoError(t, err)
		assert.Equal(t, 403, status(second(own.Audits(ctx, 1))), "it reads nothing of the estate")
		assert.Equal(t, 404, status(second(own.TakeTasks(ctx, "MADEUP", api.TaskWish{Most: 1}))))
		idle, err := own.BeginRemoteWork(ctx, api.RemoteStart{Name: "idle", Schema: facts.Schema, Visits: 1,
			Longest: 1})
		require.NoError(t, err)
		started := time.Now()
		tasks, err := own.TakeTasks(ctx, idle.Session, api.TaskWish{Most: 1})
		require.NoError(t, err)
		assert.Empty(t, tasks)
		assert.Greater(t, time.Since(started), 9*time.Second, "it waits for tasks")
		require.NoError(t, own.EndRemoteWork(ctx, idle.Session))
		_, err = c.BeginRemoteWork(ctx, api.RemoteStart{Name: "me", Schema: facts.Schema, Visits: 1, Longest: 1})
		assert.Equal(t, 403, status(err), "people are no workers")
		_, err = own.BeginRemoteWork(ctx, api.RemoteStart{Name: "a\x1b[2Jb", Schema: facts.Schema, Visits: 1,
			Longest: 1})
		assert.Equal(t, 422, status(err), "no name for a terminal")
		_, err = own.BeginRemoteWork(ctx, api.RemoteStart{Name: "old", Schema: "1", Visits: 1, Longest: 1})
		assert.ErrorContains(t, err, "another version")

		for i, at := range silentServers(t, 100*time.Millisecond, "127.54.0.1", "127.54.0.2", "127.55.0.1") {
			_, err := c.AddEndpoint(ctx, api.EndpointSettings{Endpoint: fmt.Sprintf("pier%d.tarnholm.example", i),
				VisitAt: []string{at.String()}, Vantages: []string{"outside"}})
			require.NoError(t, err)
		}
		_, err = c.AddEndpoint(ctx, api.EndpointSettings{Endpoint: "nowhere.invalid", Vantages: []string{"outside"}})
		require.NoError(t, err)
		berth, err := c.AddEndpoint(ctx, api.EndpointSettings{Endpoint: "www.tarnholm.example",
			VisitAt:  []string{netip.AddrPortFrom(netip.MustParseAddr("127.30.1.1"), shared.harbour.Port).String()},
			Vantages: []string{"outside"}})
		require.NoError(t, err)
		go func() { ended <- worker(nil) }()
		select {
		case <-ready:
		case err := <-ended:
			require.NoError(t, err)
		}
		list, err := c.Workers(ctx)
		require.NoError(t, err)
		require.Len(t, list, 2)
		assert.Equal(t, []any{"outside/pier", "work", "outside", "quay", 3},
			[]any{list[0].Name, list[0].Kind, list[0].Vantage, list[0].Through, list[0].Visits})
		assert.NotEmpty(t, list[0].Version)
		audit := audited()
		assert.Equal(t, 5, audit.Endpoints)
		require.Len(t, audit.Unexamined, 1)
		assert.Equal(t, "pier2.tarnholm.example:443", audit.Unexamined[0].Target)
		assert.Contains(t, audit.Unexamined[0].Unexamined, "the worker there: 127.55.0.1")
		assert.Contains(t, audit.Unexamined[0].Unexamined, "--allow-visit", "its own administrator decides")
		assert.Equal(t, 4, audit.Verdicts.Unreachable+audit.Verdicts.Faulty+audit.Verdicts.AtRisk+audit.Verdicts.Sound)
		x, err := c.Examination(ctx, berth.ID)
		require.NoError(t, err)
		require.Len(t, x.Facts.Observations, 1)
		assert.Equal(t, facts.Answered, x.Facts.Observations[0].Outcome)
		assert.Equal(t, "outside", x.Facts.Observations[0].Vantage)
		assert.NotEmpty(t, x.Facts.Observations[0].Certificates)
		assert.Zero(t, count(t, data, `SELECT count(*) FROM river_job WHERE kind = 'visit'
			AND attempted_by[array_upper(attempted_by, 1)] <> 'nurvikd-outside/pier'`))
	})
	t.Run("it goes on when the service is started again", func(t *testing.T) {
		serve(t)
		require.Eventually(t, func() bool {
			list, err := c.Workers(ctx)
			return err == nil && len(list) == 2
		}, time.Minute, 100*time.Millisecond)
		assert.Equal(t, 5, audited().Judged)
	})
	t.Run("it lets visits end when it is stopped", func(t *testing.T) {
		serve(t)
		slow := silentServers(t, 2*time.Second, "127.54.0.3")[0]
		e, err := c.AddEndpoint(ctx, api.EndpointSettings{Endpoint: "slow.tarnholm.example",
			VisitAt: []string{slow.String()}, Vantages: []string{"outside"}})
		require.NoError(t, err)
		audit, err := c.StartAudit(ctx, api.AuditStart{EndpointIDs: []int64{e.ID}})
		require.NoError(t, err)
		require.Eventually(t, func() bool {
			list, err := c.Workers(ctx)
			return err == nil && len(list) == 2 && list[0].Running == 1 &&
				count(t, data, "SELECT count(*) FROM visits WHERE address <> '' AND state = 'waiting'") == 1
		}, time.Minute, 50*time.Millisecond)
		time.Sleep(200 * time.Millisecond) // it has the task
		stop()
		require.NoError(t, <-ended)
		audit, err = c.Follow(ctx, audit.ID, nil)
		require.NoError(t, err)
		assert.Equal(t, 1, audit.Verdicts.Unreachable, "it was visited to the end")
		require.Eventually(t, func() bool {
			list, err := c.Workers(ctx)
			return err == nil && len(list) == 1
		}, 20*time.Second, 100*time.Millisecond)
	})
	t.Run("it ends when it is refused", func(t *testing.T) {
		serve(t)
		working, ready = t.Context(), make(chan struct{})
		assert.ErrorContains(t, worker(func(w *service.Config) { w.Vantage = "inside" }),
			"for another vantage, outside")
		assert.ErrorContains(t, worker(func(w *service.Config) { w.TokenFile = "" }), "--role worker --vantage")
		assert.ErrorContains(t, worker(func(w *service.Config) { w.Limits.Visit = time.Hour }), "lower --visit-timeout")
		assert.ErrorContains(t, worker(func(w *service.Config) { w.Database = server.URL() }), "not both")
		assert.ErrorContains(t, worker(func(w *service.Config) { w.Through = "http://192.0.2.1" }), "plain HTTP")
		go func() { ended <- worker(nil) }()
		<-ready
		require.NoError(t, c.RemoveToken(ctx, made.ID))
		select {
		case err := <-ended:
			assert.Equal(t, 401, status(err))
		case <-time.After(30 * time.Second):
			assert.Fail(t, "it goes on", log.String())
		}
	})
	assert.NotContains(t, log.String(), made.Secret)
}
