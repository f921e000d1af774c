package service_test

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/probe"
	"nurvik/internal/api"
	"nurvik/internal/client"
	"nurvik/internal/service"
	"nurvik/internal/service/jobs"
	"nurvik/internal/service/postgres"
	"nurvik/internal/service/store"
	"nurvik/internal/vantage"
)

// other is a database of its own, and its directory.
func other(t *testing.T) (*postgres.Server, string) {
	t.Helper()
	data := shortDirectory(t)
	server, err := postgres.Start(t.Context(), postgres.Options{Directory: data, Unsafe: true, Log: silent})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, server.Stop(context.Background())) })
	return server, data
}

// shortDirectory is short, since a Unix socket lies in it, and may be entered by the database's user.
func shortDirectory(t *testing.T) string {
	t.Helper()
	d, err := os.MkdirTemp("/tmp", "nurvik-c-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(d, 0o755))
	t.Cleanup(func() { _ = os.RemoveAll(d) })
	return filepath.Join(d, "data")
}

var silent = slog.New(slog.NewTextHandler(io.Discard, nil))

// worker is a process of the name on the database, without a web server.
func worker(t *testing.T, server *postgres.Server, name string, lost func(error),
	change ...func(*probe.Network)) *jobs.Queue {
	t.Helper()
	s, err := store.Open(t.Context(), server.URL(), server.Dial)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	network, err := vantage.Network(vantage.NameServer{})
	require.NoError(t, err)
	for _, c := range change {
		c(&network)
	}
	q, err := jobs.Open(t.Context(), s, jobs.Options{Instance: name, Network: network, Log: silent, Now: s.Clock.Stamp})
	require.NoError(t, err)
	if err := q.Start(context.Background(), lost); err != nil {
		assert.ErrorContains(t, err, "another nurvikd of the instance name")
		return nil
	}
	return q
}

// execute changes something in a database behind the service's back.
func execute(t *testing.T, data, statement string) {
	t.Helper()
	conn := connection(t, data)
	defer conn.Close(context.Background())
	_, err := conn.Exec(t.Context(), statement)
	require.NoError(t, err)
}

// connection enters the database below a data directory as the service does.
func connection(t *testing.T, data string) *pgx.Conn {
	t.Helper()
	secret, err := os.ReadFile(filepath.Join(data, "secret"))
	require.NoError(t, err)
	conn, err := pgx.Connect(t.Context(), fmt.Sprintf("host=%s user=nurvik dbname=nurvik password=%s",
		filepath.Join(data, "run"),
		strings.Fields(string(secret))[1]))
	require.NoError(t, err)
	return conn
}

func count(t *testing.T, data, query string) (n int) {
	t.Helper()
	conn := connection(t, data)
	defer conn.Close(context.Background())
	require.NoError(t, conn.QueryRow(t.Context(), query).Scan(&n))
	return n
}

// TestClaims: an instance's name belongs to one living process, which keeps it
// through lost connections; a dead one's jobs go on elsewhere.
func TestClaims(t *testing.T) {
	t.Parallel()
	server, data := other(t)
	stop := func(q *jobs.Queue) {
		ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
		defer cancel()
		assert.NoError(t, q.Stop(ctx))
	}
	var lost []error
	first := worker(t, server, "quay", func(err error) { lost = append(lost, err) })
	t.Run("two of one name", func(t *testing.T) {
		assert.Nil(t, worker(t, server, "quay", nil), "the second one is refused")
		second := worker(t, server, "pier", nil)
		require.NotNil(t, second, "another name is another worker")
		stop(second)
	})
	t.Run("a lost connection", func(t *testing.T) {
		before := count(t, data, "SELECT count(*) FROM pg_locks WHERE locktype = 'advisory'")
		require.Positive(t, before)
		execute(t, data, "SELECT pg_terminate_backend(pid) FROM pg_locks WHERE locktype = 'advisory'")
		assert.Eventually(t, func() bool {
			return count(t, data, "SELECT count(*) FROM pg_locks WHERE locktype = 'advisory' AND granted") == before
		}, 20*time.Second, 50*time.Millisecond, "the claim is taken again")
		assert.Empty(t, lost)
	})
	t.Run("jobs of a dead worker elsewhere", func(t *testing.T) {
		execute(t, data, "INSERT INTO workers (instance, holder, beat_at) VALUES ('nurvikd-wreck', 'x', now() - "+
			"interval '1 minute')")
		execute(t, data, `INSERT INTO river_job (kind, args, max_attempts, state, attempt, attempted_at, attempted_by)
			VALUES ('plan', '{"audit_id": 0}', 3, 'running', 1, now(), '{nurvikd-wreck}')`)
		assert.Eventually(t, func() bool {
			return count(t, data, "SELECT count(*) FROM river_job WHERE kind = 'plan' AND state = 'completed'") == 1
		}, 30*time.Second, 100*time.Millisecond, "within 30 seconds")
		assert.Zero(t, count(t, data, "SELECT count(*) FROM workers WHERE instance = 'nurvikd-wreck'"))
	})
	t.Run("a clock that was put back", func(t *testing.T) {
		execute(t, data, `INSERT INTO river_job (kind, args, max_attempts, state, scheduled_at)
			VALUES ('plan', '{"audit_id": -1}', 3, 'available', now() + interval '30 minutes')`)
		execute(t, data, "UPDATE workers SET beat_at = now() + interval '30 minutes'")
		execute(t, data, "UPDATE river_leader SET elected_at = now() + interval '30 minutes', expires_at = now() + "+
			"interval '31 minutes'")
		assert.Eventually(t, func() bool {
			return count(t, data, "SELECT count(*) FROM river_job WHERE kind = 'plan' AND state = 'completed'") == 2
		}, 30*time.Second, 100*time.Millisecond)
	})
	t.Run("a name that another has taken over", func(t *testing.T) {
		conn := connection(t, data)
		defer conn.Close(context.Background())
		execute(t, data, "SELECT pg_terminate_backend(pid) FROM pg_locks WHERE locktype = 'advisory'")
		_, err := conn.Exec(t.Context(), "SELECT pg_advisory_lock($1)", store.LockKey("instance nurvikd-quay"))
		require.NoError(t, err)
		execute(t, data, "UPDATE workers SET holder = 'another' WHERE instance = 'nurvikd-quay'")
		assert.Eventually(t, func() bool { return len(lost) > 0 }, 20*time.Second, 50*time.Millisecond)
		assert.ErrorIs(t, lost[0], jobs.ErrClaimLost)
	})
	stop(first)
}

// TestGivenUp: what no job will work on any more is told as given up, and the rest goes on.
func TestGivenUp(t *testing.T) {
	t.Parallel()
	server, data := other(t)
	q := worker(t, server, "quay", nil)
	defer func() { _ = q.Stop(context.Background()) }()
	given := func(query string, want int) {
		assert.Eventually(t, func() bool { return count(t, data, query) == want }, 2*time.Minute, 200*time.Millisecond,
			query)
	}
	// All in one transaction, so that no sweep sees half of it.
	execute(t, data, `INSERT INTO audits (id, state, created_at) VALUES (11, 'planning', now()), (12, 'visiting', now());
		INSERT INTO endpoints (id, target, settings, created_at, updated_at)
			VALUES (11, 'a.example:443', '{"endpoint": "a.example:443"}', now(), now());
		INSERT INTO examinations (audit_id, endpoint_id, stage) VALUES (12, 11, 'planned');
		INSERT INTO visits (audit_id, endpoint_id, address, server_name, state)
			VALUES (12, 11, '192.0.2.7:443', '', 'waiting');
		INSERT INTO what_ifs (state, question, created_at) VALUES ('judging', '{}', now());
		INSERT INTO policies (name, builtin, updated_at) VALUES ('open-web', true, now())`)
	given("SELECT count(*) FROM audits WHERE state = 'failed' AND failure LIKE 'given up%'", 1)
	given("SELECT count(*) FROM audits WHERE state = 'finished'", 1)
	given("SELECT count(*) FROM examinations WHERE unexamined LIKE '%given up%'", 1)
	given("SELECT count(*) FROM what_ifs WHERE state = 'failed' AND failure LIKE 'given up%'", 1)
	// The end of an audit has holdings judged anew, so this one comes after.
	execute(t, data, "INSERT INTO holdings (name, policy, sent_at) VALUES ('wreck', 'open-web', now())")
	given("SELECT count(*) FROM holdings WHERE failure LIKE 'given up%'", 1)
}

// TestExhaustionIsNoVerdict: an endpoint that could not be visited because this
// machine has run out of something is told as not examined, and keeps its verdict.
func TestExhaustionIsNoVerdict(t *testing.T) {
	t.Parallel()
	server, data := other(t)
	q := worker(t, server, "quay", nil, func(n *probe.Network) {
		n.Dial = func(context.Context, netip.AddrPort) (net.Conn, error) { return nil, syscall.EMFILE }
		lookup := n.Lookup
		n.Lookup = func(ctx context.Context, host string) ([]netip.Addr, error) {
			if host == "noname.example" {
				return nil, syscall.EMFILE
			}
			return lookup(ctx, host)
		}
	})
	defer func() { _ = q.Stop(context.Background()) }()
	execute(t, data, `INSERT INTO endpoints (target, settings, created_at, updated_at, verdict) VALUES
		('a.example:443', '{"endpoint": "a.example:443", "visit_at": ["192.0.2.7"]}', now(), now(), 'sound'),
		('noname.example:443', '{"endpoint": "noname.example:443"}', now(), now(), 'faulty')`)
	require.NoError(t, q.Begin(t.Context(), &store.Audit{}, store.Selection{}))
	assert.Eventually(t, func() bool {
		return count(t, data, "SELECT count(*) FROM audits WHERE state = 'finished'") == 1
	}, 2*time.Minute, 200*time.Millisecond)
	assert.Equal(t, 2, count(t, data, "SELECT count(*) FROM examinations WHERE unexamined LIKE '%file descriptors%'"))
	assert.Equal(t, 2, count(t, data, "SELECT count(*) FROM endpoints WHERE verdict IN ('sound', 'faulty')"))
	assert.Zero(t, count(t, data, "SELECT count(*) FROM findings"))
}

// TestTimesFromTheFuture: after a step back of the clock everything that was
// seen lies in the future. Audits end, and holdings are judged.
func TestTimesFromTheFuture(t *testing.T) {
	t.Parallel()
	data := shortDirectory(t)
	ctx, cancel := context.WithCancel(t.Context())
	ended, ready := make(chan error, 1), make(chan string, 1)
	config := service.Config{Data: data, Listen: free(), Silent: true, UnsafeDisk: true, Log: silent,
		SignIn: letIn, Visitable: []string{"127.0.0.0/8"}}
	go func() { ended <- service.Run(ctx, config, func(address, _ string) { ready <- address }) }()
	var address string
	select {
	case address = <-ready:
	case err := <-ended:
		require.NoError(t, err)
	}
	c, err := client.New(address, "")
	require.NoError(t, err)
	e, err := c.AddEndpoint(t.Context(), api.EndpointSettings{Endpoint: "tides.tarnholm.example",
		VisitAt: []string{"127.30.1.1:" + strconv.Itoa(int(shared.harbour.Port))}})
	require.NoError(t, err)
	audit := func() {
		a, err := c.StartAudit(t.Context(), api.AuditStart{})
		require.NoError(t, err)
		done, err := c.Follow(t.Context(), a.ID, nil)
		require.NoError(t, err)
		assert.Equal(t, "finished", done.State, done.Failure)
	}
	send := func() {
		h, err := c.SendHolding(t.Context(), api.HoldingFacts{HoldingHeader: api.HoldingHeader{Name: "quay"},
			Files: machine(t, "quay")}, nil)
		require.NoError(t, err)
		_, err = c.JudgedHolding(t.Context(), h.ID)
		require.NoError(t, err)
	}
	audit()
	send()
	for table, columns := range map[string][]string{"keys": {"first_seen", "last_seen"},
		"certificates": {"first_seen", "last_seen"}, "sightings": {"first_seen", "last_seen"},
		"findings": {"first_seen", "last_seen", "gone_at"}, "endpoints": {"judged_at"}, "holdings": {"sent_at",
			"judged_at"},
		"audits": {"created_at", "finished_at"}, "workers": {"beat_at"}, "river_leader": {"elected_at", "expires_at"}} {
		set := ""
		for _, column := range columns {
			set += ", " + column + " = " + column + " + interval '30 minutes'"
		}
		execute(t, data, "UPDATE "+table+" SET "+set[2:])
	}
	audit()
	send()
	x, err := c.Examination(t.Context(), e.ID)
	require.NoError(t, err)
	assert.NotEmpty(t, x.Findings)
	for _, f := range x.Findings {
		assert.False(t, f.LastSeen.Before(f.FirstSeen))
	}
	cancel()
	require.NoError(t, <-ended)
}
