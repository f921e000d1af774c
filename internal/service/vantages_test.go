package service_test

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/endpoint"
	"nurvik/core/facts"
	"nurvik/core/limits"
	"nurvik/internal/service/jobs"
	"nurvik/internal/service/store"
	"nurvik/internal/vantage"
)

// TestVantages: an endpoint is looked up and visited from each vantage that it names, by the workers there alone; what
// they see is kept apart and compared; and nobody waits for ever for a vantage at which nobody works.
func TestVantages(t *testing.T) {
	t.Parallel()
	server, data := other(t)
	all, _ := piers(t)
	const shared = "192.0.2.7:443" // the same address leads to another server from outside
	worker := func(name, kind string, leads map[string]netip.AddrPort, names map[string]string) (*store.Store,
		*jobs.Queue) {
		s, err := store.Open(t.Context(), server.URL(), server.Dial)
		require.NoError(t, err)
		t.Cleanup(s.Close)
		network, err := vantage.Network(vantage.NameServer{})
		require.NoError(t, err)
		dial := network.Dial
		network.HasRoute = func(netip.Addr) bool { return true }
		network.Lookup = func(_ context.Context, host string) ([]netip.Addr, error) {
			if names[host] == "" {
				return nil, &net.DNSError{Err: "no such host", Name: host, IsNotFound: true}
			}
			return []netip.Addr{netip.MustParseAddr(names[host])}, nil
		}
		network.Dial = func(ctx context.Context, a netip.AddrPort) (net.Conn, error) {
			if name == "outside" { // the one that is named first comes last
				time.Sleep(300 * time.Millisecond)
			}
			if to, known := leads[a.String()]; known {
				return dial(ctx, to)
			}
			return nil, errors.New("connection refused from " + name)
		}
		o := jobs.Options{Instance: name, Kind: kind, Network: network, Log: silent, Now: s.Clock.Stamp,
			Effort: facts.Quick, Absent: time.Second, Limits: limits.Limits{HostPerSecond: 1000}}
		if kind == "work" {
			o.Vantage = name
		}
		q, err := jobs.Open(t.Context(), s, o)
		require.NoError(t, err)
		require.NoError(t, q.Start(context.Background(), func(error) {}))
		t.Cleanup(func() { _ = q.Stop(context.Background()) })
		return s, q
	}
	s, q := worker("quay", "serve", nil, map[string]string{"ferry.tarnholm.example": "203.0.113.9"})
	worker("inside", "work", map[string]netip.AddrPort{shared: all[2].address, "192.0.2.8:443": all[1].address},
		map[string]string{"ferry.tarnholm.example": "192.0.2.7", "south.tarnholm.example": "192.0.2.8"})
	_, outside := worker("outside", "work", map[string]netip.AddrPort{shared: all[3].address},
		map[string]string{"ferry.tarnholm.example": "192.0.2.7"})

	both := []string{"outside", "inside"}
	var list []store.Endpoint
	for target, vantages := range map[string][]string{"ferry.tarnholm.example:443": both,
		"south.tarnholm.example:443": both, "north.tarnholm.example:443": both,
		"south.tarnholm.example:8443": {"attic"}, "ferry.tarnholm.example:8443": nil} {
		list = append(list, store.Endpoint{Target: target, Settings: endpoint.Settings{Endpoint: target,
			Vantages: vantages}, Latest: store.Latest{Codes: []string{}}})
	}
	require.NoError(t, s.Tx(t.Context(), func(tx *store.Tx) error {
		_, err := tx.PutEndpoints(list, true, time.Now())
		return err
	}))
	audit := &store.Audit{CreatedAt: s.Clock.Stamp()}
	require.NoError(t, q.Begin(t.Context(), audit, store.Selection{}))
	require.Eventually(t, func() bool {
		return count(t, data, "SELECT count(*) FROM audits WHERE state = 'finished'") == 1
	}, 2*time.Minute, 50*time.Millisecond)

	examined := map[string]store.Examined{}
	portion, err := s.Portion(t.Context(), audit.ID, store.Closed, 100)
	require.NoError(t, err)
	for _, x := range portion {
		examined[x.Endpoint.Target] = x
	}
	differ := func(target string) (subjects []string) {
		for _, f := range examined[target].Judgement.Findings {
			if f.Code == "deploy.vantages-differ" {
				subjects = append(subjects, f.Subject)
			}
		}
		return subjects
	}
	ferry := examined["ferry.tarnholm.example:443"]
	require.Len(t, ferry.Facts.Observations, 2)
	assert.Equal(t, both, []string{ferry.Facts.Observations[0].Vantage, ferry.Facts.Observations[1].Vantage},
		"in the order of the settings, whoever was quicker")
	for _, o := range ferry.Facts.Observations {
		want := map[string][]byte{"inside": all[2].chain[0], "outside": all[3].chain[0]}[o.Vantage]
		assert.Equal(t, shared, o.Address.String())
		assert.Equal(t, want, o.Certificates[0], o.Place())
	}
	assert.Equal(t, []string{"certificates"}, differ("ferry.tarnholm.example:443"))
	assert.Equal(t, 2, count(t, data, "SELECT count(*) FROM places WHERE address LIKE '"+shared+" from %side'"),
		"what the same address serves elsewhere is another place")
	assert.Equal(t, []string{"reach"}, differ("south.tarnholm.example:443"), "outside its name leads nowhere")
	assert.True(t, examined["north.tarnholm.example:443"].Facts.ResolveError.Given(), "it leads nowhere from anywhere")
	assert.Equal(t, "unreachable", examined["north.tarnholm.example:443"].Verdict)
	assert.Equal(t, "unreachable", examined["ferry.tarnholm.example:8443"].Verdict, "the service visits it itself")

	left, err := s.Unexamined(t.Context(), audit.ID, 10)
	require.NoError(t, err)
	require.Len(t, left, 1)
	assert.Equal(t, "south.tarnholm.example:8443", left[0].Target)
	assert.Contains(t, left[0].Unexamined, `nobody works at the vantage attic: run "nurvikd work --vantage attic" on a machine there`)
	assert.Zero(t, count(t, data, "SELECT count(*) FROM river_job WHERE kind = 'visit' AND state <> 'completed'"))

	workers, err := s.Workers(t.Context())
	require.NoError(t, err)
	var told []string
	for _, w := range workers {
		told = append(told, strings.TrimPrefix(w.Instance, "nurvikd-")+":"+w.Vantage)
	}
	assert.Equal(t, []string{"inside:inside", "outside:outside", "quay:"}, told)
	assert.Zero(t, count(t, data, `SELECT count(*) FROM river_job WHERE kind <> 'visit'
		AND attempted_by[array_upper(attempted_by, 1)] <> 'nurvikd-quay'`), "a vantage visits, and does nothing else")

	// Nobody works outside any more: what was found there stays and counts.
	ofFerry := "FROM findings f JOIN endpoints e ON e.id = endpoint_id WHERE target = 'ferry.tarnholm.example:443'"
	before := count(t, data, "SELECT count(*) "+ofFerry)
	onlyOutside := ofFerry + ` AND f.finding->>'addresses' LIKE '%from outside%'
		AND f.finding->>'addresses' NOT LIKE '%from inside%'`
	require.NotZero(t, count(t, data, "SELECT count(*) "+onlyOutside))
	require.NoError(t, outside.Stop(t.Context()))
	require.NoError(t, q.Begin(t.Context(), &store.Audit{CreatedAt: s.Clock.Stamp()}, store.Selection{}))
	require.Eventually(t, func() bool {
		return count(t, data, "SELECT count(*) FROM audits WHERE state = 'finished'") == 2
	}, 2*time.Minute, 50*time.Millisecond)
	assert.Equal(t, before, count(t, data, "SELECT count(*) "+ofFerry+" AND state <> 'gone'"))
	again, err := s.Endpoint(t.Context(), ferry.Endpoint.ID)
	require.NoError(t, err)
	assert.Contains(t, again.Codes, "deploy.vantages-differ", "in the tally of the list too")
	assert.Zero(t, count(t, data, "SELECT count(*) "+onlyOutside+" AND f.last_seen > e.observed_at"),
		"nobody has seen it again")
}
