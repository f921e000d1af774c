package service_test

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/endpoint"
	"nurvik/core/facts"
	"nurvik/core/limits"
	"nurvik/internal/api"
	"nurvik/internal/service"
	"nurvik/internal/service/jobs"
	"nurvik/internal/service/store"
	"nurvik/internal/vantage"
)

// counter counts the connections to each address that are open, whoever opened them.
type counter struct {
	mutex      sync.Mutex
	open, most map[netip.Addr]int
	total      map[netip.AddrPort]int
}

func (c *counter) change(a netip.AddrPort, by int) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	c.open[a.Addr()] += by
	c.most[a.Addr()] = max(c.most[a.Addr()], c.open[a.Addr()])
	if by > 0 {
		c.total[a]++
	}
}

type counted struct {
	net.Conn
	closed func()
}

func (c counted) Close() error { c.closed(); return c.Conn.Close() }

// silentServers answer connections by closing them after a moment.
func silentServers(t *testing.T, moment time.Duration, addresses ...string) []netip.AddrPort {
	t.Helper()
	out := make([]netip.AddrPort, len(addresses))
	for i, address := range addresses {
		listener, err := net.Listen("tcp", address+":0")
		require.NoError(t, err)
		t.Cleanup(func() { _ = listener.Close() })
		out[i] = listener.Addr().(*net.TCPAddr).AddrPort()
		go func() {
			for {
				conn, err := listener.Accept()
				if err != nil {
					return
				}
				go func() { time.Sleep(moment); _ = conn.Close() }()
			}
		}()
	}
	return out
}

// TestWorkersTakeTurns: two processes on one database meet a host one after the other, and each endpoint once.
func TestWorkersTakeTurns(t *testing.T) {
	t.Parallel()
	server, data := other(t)
	// Six endpoints at each of two addresses, and many elsewhere, so that both have something to do.
	var addresses []string
	for i := range 6 {
		addresses = append(addresses, "127.52.0.1", "127.52.0.2", fmt.Sprintf("127.52.1.%d", i+1),
			fmt.Sprintf("127.52.2.%d", i+1))
	}
	all := &counter{open: map[netip.Addr]int{}, most: map[netip.Addr]int{}, total: map[netip.AddrPort]int{}}
	var first *store.Store
	var queue *jobs.Queue
	for _, name := range []string{"quay", "pier"} {
		s, err := store.Open(t.Context(), server.URL(), server.Dial)
		require.NoError(t, err)
		t.Cleanup(s.Close)
		network, err := vantage.Network(vantage.NameServer{})
		require.NoError(t, err)
		dial := network.Dial
		network.Dial = func(ctx context.Context, a netip.AddrPort) (net.Conn, error) {
			all.change(a, 1)
			conn, err := dial(ctx, a)
			if err != nil {
				all.change(a, -1)
				return nil, err
			}
			return counted{conn, sync.OnceFunc(func() { all.change(a, -1) })}, nil
		}
		q, err := jobs.Open(t.Context(), s, jobs.Options{Instance: name, Network: network, Log: silent,
			Now: s.Clock.Stamp, Effort: facts.Quick, Visits: 6,
			Limits: limits.Limits{HostAtOnce: 2, HostPerSecond: 1000}})
		require.NoError(t, err)
		require.NoError(t, q.Start(context.Background(), func(error) {}))
		defer func() { _ = q.Stop(context.Background()) }()
		if first == nil {
			first, queue = s, q
		}
	}
	var list []store.Endpoint
	for i, a := range silentServers(t, 100*time.Millisecond, addresses...) {
		target := fmt.Sprintf("quay%d.tarnholm.example:443", i)
		list = append(list, store.Endpoint{Target: target, Settings: endpoint.Settings{Endpoint: target,
			VisitAt: []string{a.String()}}, Latest: store.Latest{Codes: []string{}}})
	}
	require.NoError(t, first.Tx(t.Context(), func(tx *store.Tx) error {
		_, err := tx.PutEndpoints(list, true, time.Now())
		return err
	}))
	require.NoError(t, queue.Begin(t.Context(), &store.Audit{}, store.Selection{}))
	require.Eventually(t, func() bool {
		return count(t, data, "SELECT count(*) FROM audits WHERE state = 'finished'") == 1
	}, 2*time.Minute, 50*time.Millisecond)
	all.mutex.Lock()
	defer all.mutex.Unlock()
	for host, most := range all.most {
		assert.LessOrEqual(t, most, 2, host)
	}
	want := 0
	for a, connections := range all.total {
		if want == 0 {
			want = connections
		}
		assert.Equal(t, want, connections, "%s is visited once", a)
	}
	assert.Len(t, all.total, len(addresses))
	assert.Equal(t, 2, count(t, data, `SELECT count(DISTINCT attempted_by[array_upper(attempted_by, 1)])
		FROM river_job WHERE kind = 'visit'`), "both have worked")
	assert.Zero(t, count(t, data, "SELECT count(*) FROM lanes WHERE until > now() + interval '1 second'"),
		"every turn has ended")
}

// TestBusyHost: what waits for a host is woken by whoever leaves it, and not tried again and again.
func TestBusyHost(t *testing.T) {
	t.Parallel()
	server, data := other(t)
	s, err := store.Open(t.Context(), server.URL(), server.Dial)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	network, err := vantage.Network(vantage.NameServer{})
	require.NoError(t, err)
	q, err := jobs.Open(t.Context(), s, jobs.Options{Instance: "quay", Network: network, Log: silent,
		Now: s.Clock.Stamp, Effort: facts.Quick, Visits: 20, Limits: limits.Limits{HostAtOnce: 1, HostPerSecond: 1000}})
	require.NoError(t, err)
	require.NoError(t, q.Start(context.Background(), func(error) {}))
	t.Cleanup(func() { _ = q.Stop(context.Background()) })
	const visits = 50
	var addresses []string
	for range visits {
		addresses = append(addresses, "127.54.0.1")
	}
	var list []store.Endpoint
	for i, a := range silentServers(t, 5*time.Millisecond, addresses...) {
		target := fmt.Sprintf("tug%d.tarnholm.example:443", i)
		list = append(list, store.Endpoint{Target: target, Settings: endpoint.Settings{Endpoint: target,
			VisitAt: []string{a.String()}}, Latest: store.Latest{Codes: []string{}}})
	}
	require.NoError(t, s.Tx(t.Context(), func(tx *store.Tx) error {
		_, err := tx.PutEndpoints(list, true, time.Now())
		return err
	}))
	require.NoError(t, q.Begin(t.Context(), &store.Audit{}, store.Selection{}))
	require.Eventually(t, func() bool {
		return count(t, data, "SELECT count(*) FROM audits WHERE state = 'finished'") == 1
	}, 2*time.Minute, 50*time.Millisecond)
	tries := count(t, data, "SELECT sum(coalesce((metadata ->> 'snoozes')::int, 0)) FROM river_job")
	assert.Less(t, tries, 4*visits, "two each, and a few more where it takes long")
}

// TestWork: a process that only works joins a service, takes part, and leaves.
func TestWork(t *testing.T) {
	t.Parallel()
	server, data := other(t)
	address, setUp := begun(t, service.Config{Database: server.URL(), Instance: "quay", Visits: 1,
		Visitable: []string{"127.0.0.0/8"}})
	c := stranger(t, address)
	ctx := t.Context()
	_, err := c.SetUp(ctx, api.SetUp{Code: strings.TrimPrefix(setUp, address+"/set-up#"), Name: "harbour-master",
		Password: password})
	require.NoError(t, err)
	working, stop := context.WithCancel(context.Background())
	defer stop()
	ready, ended := make(chan struct{}), make(chan error, 1)
	go func() {
		ended <- service.Work(working, service.Config{Database: server.URL(), Instance: "pier", Visits: 8, Silent: true,
			Visitable: []string{"127.0.0.0/8"}, Log: silent}, func() { close(ready) })
	}()
	select {
	case <-ready:
	case err := <-ended:
		require.NoError(t, err)
	}
	list, err := c.Workers(ctx)
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, []string{"pier", "work", "quay", "serve"},
		[]string{list[0].Name, list[0].Kind, list[1].Name, list[1].Kind})
	assert.Equal(t, []int{8, 1}, []int{list[0].Visits, list[1].Visits})
	assert.NotEmpty(t, list[0].Version)
	var addresses []string
	for i := range 12 {
		addresses = append(addresses, fmt.Sprintf("127.53.0.%d", i+1))
	}
	for i, a := range silentServers(t, 100*time.Millisecond, addresses...) {
		_, err := c.AddEndpoint(ctx, api.EndpointSettings{Endpoint: fmt.Sprintf("pier%d.tarnholm.example", i),
			VisitAt: []string{a.String()}})
		require.NoError(t, err)
	}
	audit, err := c.StartAudit(ctx, api.AuditStart{})
	require.NoError(t, err)
	audit, err = c.Follow(ctx, audit.ID, nil)
	require.NoError(t, err)
	assert.Equal(t, 12, audit.Verdicts.Unreachable)
	assert.Positive(t, count(t, data, "SELECT count(*) FROM river_job WHERE kind = 'visit' AND "+
		"attempted_by[array_upper(attempted_by, 1)] = 'nurvikd-pier'"))
	stop()
	require.NoError(t, <-ended)
	list, err = c.Workers(ctx)
	require.NoError(t, err)
	assert.Len(t, list, 1)

	err = service.Work(ctx, service.Config{Log: silent}, func() {})
	assert.ErrorContains(t, err, "--database")
}
