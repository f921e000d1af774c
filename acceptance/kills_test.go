//go:build soak

package acceptance

import (
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/internal/api"
	"nurvik/internal/client"
)

// killCount is how often something is killed: KILLS=100.
func killCount(t *testing.T) int {
	n, err := strconv.Atoi(os.Getenv("KILLS"))
	require.NoError(t, err, "say KILLS=100")
	return n
}

// TestKills kills the service, the database, or both, at any time. What was
// acknowledged is there afterwards, each audit ends, and nothing is there twice.
func TestKills(t *testing.T) {
	const endpoints = 16
	data := dataDirectory(t)
	d := serve(t, data, "--handshake-timeout", "300ms", "--visits", "4")
	l, err := net.Listen("tcp", "0.0.0.0:0")
	require.NoError(t, err)
	defer l.Close()
	_, port, err := net.SplitHostPort(l.Addr().String())
	require.NoError(t, err)
	first := d.client(t)
	for i := range endpoints { // each is a host of its own, and none answers
		_, err := first.AddEndpoint(t.Context(), api.EndpointSettings{Endpoint: fmt.Sprintf("silent%d.tarnholm.example",
			i),
			VisitAt: []string{fmt.Sprintf("127.77.0.%d:%s", i+1, port)}})
		require.NoError(t, err)
	}
	postmaster := func() (int, bool) {
		text, err := os.ReadFile(filepath.Join(data, "database", "data", "postmaster.pid"))
		if err != nil {
			return 0, false
		}
		pid, err := strconv.Atoi(strings.SplitN(string(text), "\n", 2)[0])
		return pid, err == nil
	}
	defer func() {
		if t.Failed() {
			t.Log(d.log.String())
		}
	}()
	audits, labels, holdings := map[int64]bool{}, map[string]string{}, map[string]int{}
	killed := map[string]int{}
	for round := range killCount(t) {
		c := d.client(t)
		if a, err := c.StartAudit(t.Context(), api.AuditStart{}); err == nil {
			audits[a.ID] = true
		}
		ended := make(chan struct{})
		go func() { // writes go on while something is killed; those that are acknowledged count
			defer close(ended)
			for i := range 6 {
				name := fmt.Sprintf("round%d-%d.tarnholm.example", round%7, i)
				settings := api.EndpointSettings{Endpoint: name, VisitAt: []string{fmt.Sprintf("127.77.%d.%d:9",
					1+round%7, 1+i)},
					Labels: map[string]string{"round": strconv.Itoa(round)}}
				if e, err := c.AddEndpoint(t.Context(), settings); err == nil {
					labels[e.Endpoint] = strconv.Itoa(round)
				} else if e, err := c.FindEndpoint(t.Context(), name+":443"); err == nil {
					if _, err := c.ChangeEndpoint(t.Context(), e.ID, settings); err == nil {
						labels[e.Endpoint] = strconv.Itoa(round)
					} else {
						delete(labels, e.Endpoint) // nobody knows whether it was changed
					}
				} else {
					delete(labels, name+":443")
				}
			}
			files := make([]facts.File, 1+rand.IntN(400))
			for i := range files {
				files[i] = facts.File{Schema: facts.Schema, Path: fmt.Sprintf("/%d", i), Items: []facts.Item{}}
			}
			name := fmt.Sprintf("machine%d", round%5)
			delete(holdings, name)
			if h, err := c.SendHolding(t.Context(), api.HoldingFacts{HoldingHeader: api.HoldingHeader{Name: name},
				Files: files},
				nil); err == nil {
				holdings[h.Name] = len(files)
			}
		}()
		time.Sleep(time.Duration(rand.IntN(1500)) * time.Millisecond)
		pid, running := postmaster()
		switch what := rand.IntN(3); {
		case what == 0 && running:
			_ = syscall.Kill(pid, syscall.SIGKILL)
			killed["database"]++
		case what == 1 && running:
			_ = syscall.Kill(pid, syscall.SIGKILL)
			d.kill(t)
			killed["both"]++
			d = serve(t, data, "--handshake-timeout", "300ms", "--visits", "4")
		default:
			d.kill(t)
			killed["service"]++
			d = serve(t, data, "--handshake-timeout", "300ms", "--visits", "4")
		}
		<-ended
		c = d.client(t)
		require.Eventually(t, func() bool { _, err := c.Audits(t.Context(), 1); return err == nil }, time.Minute,
			50*time.Millisecond,
			"it answers again")
		// All that was begun ends.
		for id := range audits {
			require.Eventually(t, func() bool {
				a, err := c.Audit(t.Context(), id)
				return err == nil && a.Final()
			}, 2*time.Minute, 50*time.Millisecond, "audit %d ends", id)
			a, err := c.Audit(t.Context(), id)
			require.NoError(t, err, "an audit that was acknowledged is there")
			assert.Equal(t, "finished", a.State, a.Failure)
			assert.Empty(t, a.Unexamined)
			delete(audits, id)
		}
	}
	c := d.client(t)
	list, err := c.Endpoints(t.Context(), client.EndpointFilter{})
	require.NoError(t, err)
	there := map[string]string{}
	for _, e := range list {
		_, twice := there[e.Endpoint]
		assert.False(t, twice, e.Endpoint)
		there[e.Endpoint] = e.Labels["round"]
	}
	for name, round := range labels {
		assert.Equal(t, round, there[name], "%s is as it was acknowledged", name)
	}
	for name, files := range holdings {
		h, err := c.FindHolding(t.Context(), name)
		require.NoError(t, err)
		h, err = c.JudgedHolding(t.Context(), h.ID)
		require.NoError(t, err)
		assert.Equal(t, files, h.Files)
	}
	findings, err := c.Findings(t.Context(), client.FindingFilter{})
	require.NoError(t, err)
	seen := map[string]bool{}
	for _, f := range findings {
		assert.False(t, seen[f.ID], "no finding is there twice")
		seen[f.ID] = true
	}
	t.Logf("killed: %v; %d endpoints, %d findings, %d holdings", killed, len(there), len(findings), len(holdings))
}
