package acceptance

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/api"
	"nurvik/internal/client"
)

// TestServiceThroughTheClient goes the way of a user: import, audit, look, change.
func TestServiceThroughTheClient(t *testing.T) {
	data := dataDirectory(t)
	d := serve(t, data, "--handshake-timeout", "5s")
	on := func(arguments ...string) outcome { return nurvik(t, append(arguments, "--server", d.address)...) }

	o := on("estate", "list")
	assert.Contains(t, o.stdout, "no endpoints; add some")
	o = on("run")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stderr, "the estate is empty")

	o = on("estate", "import", estate.EstateFile)
	assert.Equal(t, 0, o.status, o.stderr)
	assert.Equal(t, "151 endpoints added, 0 changed, 0 unchanged, 0 removed\n", o.stdout)
	o = on("run", "--follow")
	assert.Equal(t, 1, o.status, o.stderr)
	assert.Contains(t, o.stdout, "finished, 151 endpoints: 51 faulty, 28 at risk, 6 unreachable, 66 sound")

	// What the service judged is what the list of truths says.
	c := d.client(t)
	endpoints, err := c.Endpoints(t.Context(), client.EndpointFilter{})
	require.NoError(t, err)
	want := readTruth(t).Endpoints
	require.Len(t, endpoints, len(want))
	for _, e := range endpoints {
		x, err := c.Examination(t.Context(), e.ID)
		require.NoError(t, err)
		assert.Equal(t, sorted(want[e.Endpoint]), told(*x.Judgement), e.Endpoint)
	}

	o = on("estate", "list", "--verdict", "faulty", "--search", "expired yesterday")
	assert.Contains(t, o.stdout, "cranes.tarnholm.example:443")
	assert.Contains(t, o.stdout, "time.expired")
	o = on("findings", "--endpoint", "ferries.tarnholm.example", "-o", "json")
	var findings []api.Finding
	require.NoError(t, json.Unmarshal([]byte(o.stdout), &findings))
	require.Len(t, findings, 1)
	assert.Equal(t, "chain.incomplete", findings[0].Code)
	assert.Len(t, findings[0].Evidence.MissingPEM, 2, "the missing certificates themselves")
	o = on("findings", "--severity", "risk")
	assert.Contains(t, o.stdout, "key.too-short")

	// Met by people who trust the inner issuer, the gate is sound.
	o = on("estate", "change", "gate.tarnholm.example", "--trust", "inner")
	assert.Equal(t, 0, o.status, o.stderr)
	o = on("run", "gate.tarnholm.example", "--follow", "-o", "json")
	assert.Equal(t, 0, o.status, o.stderr)
	var done api.Audit
	require.NoError(t, json.Unmarshal([]byte(o.stdout), &done))
	assert.Equal(t, api.Verdicts{Sound: 1}, done.Verdicts)
	o = on("findings", "--state", "gone")
	assert.Contains(t, o.stdout, "trust.unknown-anchor")

	o = on("estate", "add", "jetty.tarnholm.example", "--label", "quay=west")
	assert.Equal(t, "added jetty.tarnholm.example:443\n", o.stdout)
	o = on("estate", "add", "jetty.tarnholm.example")
	assert.Equal(t, 2, o.status)
	o = on("estate", "remove", "jetty.tarnholm.example")
	assert.Equal(t, "removed jetty.tarnholm.example:443\n", o.stdout)
	o = on("estate", "remove", "jetty.tarnholm.example")
	assert.Equal(t, 3, o.status)
	assert.Contains(t, o.stderr, "is not in the estate")

	exported := on("estate", "export")
	path := filepath.Join(t.TempDir(), "exported.yaml")
	require.NoError(t, os.WriteFile(path, []byte(exported.stdout), 0o600))
	o = on("estate", "import", "--replace", path)
	assert.Equal(t, "0 endpoints added, 0 changed, 151 unchanged, 0 removed\n", o.stdout)
	o = nurvik(t, "audit", path, "--fail-from", "never")
	assert.Equal(t, 3, o.status, "an exported estate stands alone: %s", o.stderr)

	d.stop(t)
	d = serve(t, data)
	o = on("run", "list")
	assert.Contains(t, o.stdout, "finished, 151 endpoints", "a restart finds the same data")
}

// silentEstate writes an estate of many endpoints that never answer.
func silentEstate(t *testing.T, count int) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	var text strings.Builder
	text.WriteString("endpoints:\n")
	for i := range count {
		fmt.Fprintf(&text, "  - {endpoint: silent-%d.tarnholm.example, visit-at: ['%s']}\n", i, l.Addr())
	}
	path := filepath.Join(t.TempDir(), "silent.yaml")
	require.NoError(t, os.WriteFile(path, []byte(text.String()), 0o600))
	return path
}

// TestFollowCanBeLeft interrupts the client, then cancels the audit.
func TestFollowCanBeLeft(t *testing.T) {
	d := serve(t, dataDirectory(t), "--handshake-timeout", "2s", "--visits", "2")
	require.Equal(t, 0, nurvik(t, "estate", "import", silentEstate(t, 20), "--server", d.address).status)
	cmd := exec.Command(filepath.Join(binaries, "nurvik"), "run", "--follow", "--server", d.address)
	cmd.Env = append(os.Environ(), "NURVIK_TOKEN="+d.token)
	var stderr strings.Builder
	cmd.Stderr = &stderr
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool {
		return strings.Contains(nurvik(t, "run", "list", "--server", d.address).stdout, "audit 1: visiting")
	}, 20*time.Second, 50*time.Millisecond)
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	_ = cmd.Wait()
	assert.Equal(t, 3, cmd.ProcessState.ExitCode())
	assert.Contains(t, stderr.String(), `follow it with "nurvik run follow 1", cancel it with "nurvik run cancel 1"`)

	o := nurvik(t, "run", "list", "--server", d.address)
	assert.Contains(t, o.stdout, "audit 1: visiting", "it goes on")
	started := time.Now()
	o = nurvik(t, "run", "cancel", "1", "--server", d.address)
	assert.Equal(t, 0, o.status, o.stderr)
	assert.Contains(t, o.stdout, "audit 1: cancelled")
	assert.Less(t, time.Since(started), 5*time.Second)
	o = nurvik(t, "run", "follow", "1", "--server", d.address)
	assert.Equal(t, 3, o.status)
	assert.Contains(t, o.stderr, "audit 1 is cancelled")
}

// TestKilledInTheMiddle kills the service during an audit. After the restart
// the audit is completed, and nothing was done twice.
func TestKilledInTheMiddle(t *testing.T) {
	const count = 24
	data := dataDirectory(t)
	d := serve(t, data, "--handshake-timeout", "400ms", "--visits", "4")
	require.Equal(t, 0, nurvik(t, "estate", "import", silentEstate(t, count), "--server", d.address).status)
	c := d.client(t)
	a, err := c.StartAudit(t.Context(), api.AuditStart{})
	require.NoError(t, err)
	before := api.Audit{}
	require.Eventually(t, func() bool {
		before, err = c.Audit(t.Context(), a.ID)
		return err == nil && before.Done >= 6
	}, 20*time.Second, 20*time.Millisecond)
	require.Less(t, before.Done, count, "it is in the middle")
	killed := time.Now()
	d.kill(t)

	d = serve(t, data, "--handshake-timeout", "400ms", "--visits", "4")
	assert.Contains(t, d.log.String(), "adopted the PostgreSQL that was still running")
	c = d.client(t)
	after, err := c.Audit(t.Context(), a.ID)
	require.NoError(t, err)
	assert.GreaterOrEqual(t, after.Done, before.Done, "what was done stays done")
	done, err := c.Follow(t.Context(), a.ID, nil)
	require.NoError(t, err)
	assert.Equal(t, "finished", done.State)
	assert.Less(t, time.Since(killed), 60*time.Second)
	assert.Equal(t, count, done.Visits)
	assert.Equal(t, count, done.Verdicts.Unreachable)

	audits, err := c.Audits(t.Context(), 10)
	require.NoError(t, err)
	assert.Len(t, audits, 1, "no second audit")
	kept := 0
	endpoints, err := c.Endpoints(t.Context(), client.EndpointFilter{})
	require.NoError(t, err)
	for _, e := range endpoints {
		x, err := c.Examination(t.Context(), e.ID)
		require.NoError(t, err)
		require.Len(t, x.Facts.Observations, 1, "one observation an address")
		assert.Len(t, x.Findings, 1)
		assert.Equal(t, "new", x.Findings[0].State, "judged once")
		if x.Facts.Observations[0].At.Before(killed) {
			kept++
		}
	}
	assert.GreaterOrEqual(t, kept, before.Done, "visits from before the kill were not made again")
}

// TestTakenPort starts a second service on the same port.
func TestTakenPort(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	o := call(t, "", "nurvikd", "serve", "--data", dataDirectory(t), "--listen", l.Addr().String())
	assert.Equal(t, 1, o.status)
	assert.Equal(t, 1, strings.Count(o.stderr, "\n"), "one sentence: %s", o.stderr)
	assert.Contains(t, o.stderr, "choose another with --listen")
	o = call(t, "", "nurvikd", "demo", "--once", "--data", dataDirectory(t), "--harbour-port", fmt.Sprint(estate.Port))
	assert.Equal(t, 1, o.status)
	assert.Contains(t, o.stderr, "--harbour-port")
	o = call(t, "", "nurvikd", "serv")
	assert.Equal(t, 2, o.status)
}

// TestSignalsStopInOrder leaves no PostgreSQL behind.
func TestSignalsStopInOrder(t *testing.T) {
	data := dataDirectory(t)
	d := serve(t, data)
	pidFile := filepath.Join(data, "database", "data", "postmaster.pid")
	text, err := os.ReadFile(pidFile)
	require.NoError(t, err)
	var pid int
	_, err = fmt.Sscan(string(text), &pid)
	require.NoError(t, err)
	d.stop(t)
	assert.ErrorIs(t, syscall.Kill(pid, 0), syscall.ESRCH)
	assert.NoFileExists(t, pidFile)
}
