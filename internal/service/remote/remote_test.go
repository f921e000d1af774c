package remote_test

import (
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/endpoint"
	"nurvik/core/facts"
	"nurvik/core/probe"
	"nurvik/internal/api"
	"nurvik/internal/service/jobs"
	"nurvik/internal/service/remote"
)

// clock is put forward by hand.
type clock struct {
	mutex sync.Mutex
	at    time.Time
}

func (c *clock) now() time.Time {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	return c.at
}

func (c *clock) pass(d time.Duration) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	c.at = c.at.Add(d)
}

// queue stands for the one that works a worker's jobs; its options are what the jobs call.
type queue struct {
	once    sync.Once
	stopped chan struct{}
}

func (q *queue) Stop(context.Context) error {
	q.once.Do(func() { close(q.stopped) })
	return nil
}

const token = 7

var (
	at    = netip.MustParseAddrPort("192.0.2.7:443")
	start = api.RemoteStart{Name: "pier", Schema: facts.Schema, Visits: 2, Longest: 60}
)

// begun is a worker's work with the options of its jobs.
func begun(t *testing.T) (sessions *remote.Sessions, o *jobs.Options, work api.RemoteWork, time *clock, q *queue) {
	t.Helper()
	time, q = &clock{}, &queue{stopped: make(chan struct{})}
	o = &jobs.Options{}
	sessions = remote.New(func(_ context.Context, options jobs.Options, _ func(error)) (remote.Work, error) {
		*o = options
		return q, nil
	}, time.now, slog.New(slog.NewTextHandler(io.Discard, nil)))
	work, err := sessions.Start(t.Context(), token, "outside", start)
	require.NoError(t, err)
	t.Cleanup(func() { sessions.Stop(context.Background()) })
	return sessions, o, work, time, q
}

type visited struct {
	facts.Observation
	err error
}

func visit(t *testing.T, o *jobs.Options) chan visited {
	out := make(chan visited, 1)
	go func() {
		got, err := o.Visit(t.Context(), at, probe.Call{ServerName: "www.tarnholm.example", Web: true, Plain: 80})
		out <- visited{got, err}
	}()
	return out
}

func take(t *testing.T, sessions *remote.Sessions, work api.RemoteWork, wish api.TaskWish) []api.Task {
	t.Helper()
	tasks, err := sessions.Take(t.Context(), token, work.Session, wish)
	require.NoError(t, err)
	return tasks
}

func TestTasks(t *testing.T) {
	sessions, o, work, _, _ := begun(t)
	assert.Equal(t, api.RemoteWork{Session: work.Session, Vantage: "outside"}, work)
	assert.Equal(t, []any{"outside/pier", "work", "outside", 2, time.Minute},
		[]any{o.Instance, o.Kind, o.Vantage, o.Visits, o.Limits.Visit})
	waiting := visit(t, o)
	tasks := take(t, sessions, work, api.TaskWish{Most: 2})
	require.Len(t, tasks, 1)
	assert.Equal(t, &api.VisitTask{Address: at.String(), ServerName: "www.tarnholm.example", Web: true, PlainPort: 80},
		tasks[0].Visit)

	assert.Equal(t, tasks, take(t, sessions, work, api.TaskWish{Most: 2}), "the answer that held it was lost")
	assert.Empty(t, take(t, sessions, work, api.TaskWish{}), "without room for one")
	_, err := sessions.Take(t.Context(), token+1, work.Session, api.TaskWish{Most: 1})
	assert.ErrorIs(t, err, remote.ErrUnknown, "another token has no part in it")
	assert.ErrorIs(t, sessions.Put(token+1, work.Session, api.TaskResult{ID: tasks[0].ID}), remote.ErrUnknown)
	assert.ErrorIs(t, sessions.End(token, "made up"), remote.ErrUnknown)

	good := facts.Observation{Address: at, ServerName: "www.tarnholm.example", Outcome: facts.Answered,
		Detail: facts.Because(facts.SaidBusy, "a\x1b[31mb")}
	other := good
	other.Address = netip.MustParseAddrPort("192.0.2.8:443")
	for name, bad := range map[string]api.TaskResult{
		"nothing":     {},
		"two things":  {Observation: &good, Failure: &api.TaskFailure{Why: "busy"}},
		"other kind":  {Lookup: &api.LookupResult{}},
		"other place": {Observation: &other},
	} {
		bad.ID = tasks[0].ID
		var unfit *remote.UnfitError
		assert.ErrorAs(t, sessions.Put(token, work.Session, bad), &unfit, name)
	}
	require.NoError(t, sessions.Put(token, work.Session, api.TaskResult{ID: tasks[0].ID, Observation: &good}))
	got := <-waiting
	require.NoError(t, got.err)
	assert.Equal(t, facts.Answered, got.Outcome)
	assert.NotContains(t, got.Detail.Args[0], "\x1b", "it is cleaned as what was seen here")
	assert.NoError(t, sessions.Put(token, work.Session, api.TaskResult{ID: tasks[0].ID, Observation: &good}),
		"a second time nobody waits for it")
}

func TestFailures(t *testing.T) {
	sessions, o, work, _, _ := begun(t)
	for name, c := range map[string]struct {
		failure api.TaskFailure
		is      func(error) bool
	}{
		"busy":    {api.TaskFailure{Why: "busy"}, func(err error) bool { return err == probe.ErrBusy }},
		"stopped": {api.TaskFailure{Why: "stopped"}, func(err error) bool { return err == jobs.ErrAway }},
		"exhausted": {api.TaskFailure{Why: "exhausted", Words: "no ports"},
			func(err error) bool { return probe.Exhausted(err) != nil }},
		"refused": {api.TaskFailure{Why: "refused", Words: "not there"},
			func(err error) bool { return err.Error() == "the worker there: not there" }},
	} {
		waiting := visit(t, o)
		task := take(t, sessions, work, api.TaskWish{Most: 1})[0]
		require.NoError(t, sessions.Put(token, work.Session, api.TaskResult{ID: task.ID, Failure: &c.failure}))
		assert.True(t, c.is((<-waiting).err), name)
	}
}

func TestLookups(t *testing.T) {
	sessions, o, work, _, _ := begun(t)
	parsed, err := endpoint.Parse("www.tarnholm.example")
	require.NoError(t, err)
	target := probe.Target{Endpoint: parsed, VisitAt: []endpoint.VisitAt{{Address: at.Addr()}}}
	type planned struct {
		plan probe.Plan
		err  error
	}
	plan := func(r api.LookupResult) planned {
		out := make(chan planned, 1)
		go func() {
			p, err := o.Plan(t.Context(), target)
			out <- planned{p, err}
		}()
		task := take(t, sessions, work, api.TaskWish{Most: 1})[0]
		assert.Equal(t, &api.LookupTask{Endpoint: "www.tarnholm.example:443", VisitAt: []string{at.String()}},
			task.Lookup)
		require.NoError(t, sessions.Put(token, work.Session, api.TaskResult{ID: task.ID, Lookup: &r}))
		return <-out
	}
	got := plan(api.LookupResult{Visit: []string{at.String()}, NoRoute: []string{"[2001:db8::1]:443"}})
	require.NoError(t, got.err)
	assert.Equal(t, []netip.AddrPort{at}, got.plan.Visit)
	assert.Len(t, got.plan.NoRoute, 1)
	reason := facts.Because(facts.NoAddress, "www.tarnholm.example")
	assert.Equal(t, reason, probe.Unresolved(plan(api.LookupResult{ResolveError: reason}).err))
}

// TestGone: what a worker has begun and does not end goes back, and what it has not begun at once.
func TestGone(t *testing.T) {
	t.Run("it falls silent", func(t *testing.T) {
		sessions, o, work, clock, q := begun(t)
		begunOne := visit(t, o)
		require.Len(t, take(t, sessions, work, api.TaskWish{Most: 1}), 1)
		clock.pass(29 * time.Second)
		select {
		case <-q.stopped:
			assert.Fail(t, "given up too soon")
		case <-time.After(1500 * time.Millisecond):
		}
		clock.pass(2 * time.Second)
		assert.ErrorIs(t, (<-begunOne).err, jobs.ErrAway)
		<-q.stopped
		require.Eventually(t, func() bool {
			_, err := sessions.Take(t.Context(), token, work.Session, api.TaskWish{})
			return err == remote.ErrUnknown
		}, 5*time.Second, 10*time.Millisecond)
	})
	t.Run("it ends its work", func(t *testing.T) {
		sessions, o, work, _, q := begun(t)
		begunOne := visit(t, o)
		task := take(t, sessions, work, api.TaskWish{Most: 1})[0]
		notBegun := visit(t, o)
		require.NoError(t, sessions.End(token, work.Session))
		assert.ErrorIs(t, (<-notBegun).err, jobs.ErrNotTaken)
		select {
		case got := <-begunOne:
			assert.Fail(t, "given up", got.err)
		default:
		}
		_ = sessions.Put(token, work.Session, api.TaskResult{ID: task.ID, Failure: &api.TaskFailure{Why: "busy"}})
		<-q.stopped
	})
	t.Run("it is started again", func(t *testing.T) {
		sessions, o, work, _, _ := begun(t)
		begunOne := visit(t, o)
		require.Len(t, take(t, sessions, work, api.TaskWish{Most: 1}), 1)
		_, err := sessions.Start(t.Context(), token, "outside", api.RemoteStart{Name: "pier", Schema: "0"})
		require.ErrorIs(t, err, remote.ErrOther)
		crane := api.RemoteStart{Name: "crane", Schema: facts.Schema}
		again, err := sessions.Start(t.Context(), token, "outside", crane)
		require.NoError(t, err)
		assert.NotEqual(t, work.Session, again.Session)
		assert.Len(t, take(t, sessions, work, api.TaskWish{Most: 1}), 1, "another name is another worker")
		for _, name := range []string{"three", "four"} {
			_, err = sessions.Start(t.Context(), token, "outside", api.RemoteStart{Name: name, Schema: facts.Schema})
			require.NoError(t, err)
		}
		five := api.RemoteStart{Name: "five", Schema: facts.Schema}
		_, err = sessions.Start(t.Context(), token, "outside", five)
		assert.ErrorIs(t, err, remote.ErrMany)
		_, err = sessions.Start(t.Context(), token+1, "outside", five)
		assert.NoError(t, err, "another token keeps nobody out")
		sessions.Stop(t.Context())
		assert.ErrorIs(t, (<-begunOne).err, jobs.ErrAway)
	})
}

// FuzzResult: whatever a worker says is refused, or reaches the job as facts that can be kept.
func FuzzResult(f *testing.F) {
	for _, seed := range []string{
		`{"id":1,"failure":{"why":"busy"}}`, `{"id":1,"lookup":{"visit":["192.0.2.7:443"],"no_route":["x"]}}`,
		`{"id":1,"observation":{"address":"192.0.2.7:443","server_name":"www.tarnholm.example","outcome":"answered",
			"at":"9999-12-31T23:59:59Z","certificates":["AA=="],"connections":[{"sent":-5}],"detail":{"code":"\u0000"}}}`,
		`{"id":1,"observation":{"address":"192.0.2.7:443","http":{}},"lookup":{}}`, `{"id":2}`,
	} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		var r api.TaskResult
		if json.Unmarshal(data, &r) != nil {
			return
		}
		sessions, o, work, _, _ := begun(t)
		ctx, cancel := context.WithCancel(t.Context())
		got := make(chan error, 1)
		var seen facts.Observation
		go func() {
			var err error
			seen, err = o.Visit(ctx, at, probe.Call{ServerName: "www.tarnholm.example"})
			got <- err
		}()
		r.ID = take(t, sessions, work, api.TaskWish{Most: 1})[0].ID
		if sessions.Put(token, work.Session, r) != nil {
			cancel()
			assert.Error(t, <-got)
			return
		}
		if <-got == nil {
			assert.Equal(t, at, seen.Address)
			_, err := json.Marshal(seen)
			assert.NoError(t, err)
		}
		cancel()
	})
}
