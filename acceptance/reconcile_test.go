package acceptance

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/api"
)

// TestServiceReconciles: a machine sends what it holds, its endpoint is visited, and the service tells in what the two
// differ; what is not changed is not sent again.
func TestServiceReconciles(t *testing.T) {
	const name = "pilot.tarnholm.example"
	ca := newSmallCA(t)
	older, newer := ca.set(name, 60), ca.set(name, 5)
	address := listening(t, older.pair)
	port := address[strings.LastIndex(address, ":")+1:]
	machine := t.TempDir()
	write := func(path string, data []byte) {
		require.NoError(t, os.WriteFile(filepath.Join(machine, path), data, 0o600))
	}
	write("site.pem", newer.certificate)
	write("site.key", newer.key)
	write("nginx.conf", fmt.Appendf(nil, "events {}\nhttp {\n server {\n  listen %s ssl;\n  server_name %s;\n"+
		"  ssl_certificate site.pem;\n  ssl_certificate_key site.key;\n }\n}\n", port, name))
	estateFile := filepath.Join(t.TempDir(), "estate.yaml")
	require.NoError(t, os.WriteFile(estateFile, fmt.Appendf(nil,
		"stores:\n  pilot: {kind: private, path: %s}\nendpoints:\n"+
			"  - endpoint: %s:%s\n    visit-at: [%q]\n    trust: [pilot]\n",
		ca.path, name, port, address), 0o600))
	d := serve(t, dataDirectory(t))
	c := d.client(t)
	require.Equal(t, 0, nurvik(t, "estate", "import", estateFile, "--server", d.address).status)
	collect := func(paths ...string) outcome {
		return nurvik(t, append([]string{"collect", "--holding", "wharf", "--server", d.address}, paths...)...)
	}
	audited := func() api.Examination {
		o := nurvik(t, "run", "--follow", "--server", d.address)
		require.Contains(t, o.stdout, "finished", o.stderr)
		e, err := c.FindEndpoint(t.Context(), name+":"+port)
		require.NoError(t, err)
		x, err := c.Examination(t.Context(), e.ID)
		require.NoError(t, err)
		return x
	}
	deploy := func(x api.Examination) (out []string) {
		for _, f := range x.Findings {
			if strings.HasPrefix(f.Code, "deploy.") {
				out = append(out, f.Code)
			}
		}
		return out
	}

	assert.Empty(t, deploy(audited()), "of a machine that nobody knows nothing is said")
	o := collect(machine)
	require.Equal(t, 0, o.status, o.stderr)
	assert.Contains(t, o.stderr, "of which 3 have changed")

	x := audited()
	assert.Equal(t, []string{"deploy.not-reloaded"}, deploy(x))
	assert.Contains(t, x.Findings[0].Message, "This is by what the machine wharf sent on ")
	require.Len(t, x.Judgement.Deployments, 1)
	shown := x.Judgement.Deployments[0]
	assert.Equal(t, "wharf", shown.Machine)
	assert.Equal(t, filepath.Join(machine, "nginx.conf")+":6", shown.Configured.Place)
	assert.Equal(t, filepath.Join(machine, "site.pem"), shown.Disk.Place)
	assert.Equal(t, address, shown.Served[0].Place)

	b := open(t)
	b.signIn(t, d)
	b.do(t, chromedp.Navigate(d.address+"/endpoints/"+strconv.FormatInt(x.Endpoint.ID, 10)),
		chromedp.WaitVisible(`[data-test="deployments"]`))
	assert.Contains(t, b.text(t, `[data-test="deployments"]`), "nginx.conf:6")

	where := nurvik(t, "where", fingerprintOf(newer), "--server", d.address, "-o", "json")
	require.Equal(t, 0, where.status, where.stderr)
	var kinds []string
	for _, p := range decoded[api.Where](t, where.stdout).Places {
		kinds = append(kinds, p.Kind+" "+strconv.Itoa(p.Line))
	}
	assert.ElementsMatch(t, []string{"file 1", "configuration 6"}, kinds)

	assert.Contains(t, collect(machine).stderr, "of which 0 have changed")
	write("site.pem", older.certificate)
	write("site.key", older.key)
	assert.Contains(t, collect(machine).stderr, "of which 2 have changed")
	assert.Empty(t, deploy(audited()), "the old set is back, and served")
	require.Equal(t, 0, nurvik(t, "holding", "remove", "wharf", "--server", d.address).status)
	assert.Contains(t, collect(machine).stderr, "of which 3 have changed", "what was removed is sent anew")
	view := nurvik(t, "holding", "show", "wharf", "--server", d.address, "-o", "json")
	assert.Equal(t, 3, decoded[api.HoldingView](t, view.stdout).Holding.Files)
}

// TestDeployedTellsTheTruth: the machine of the gate sends what it holds, and its endpoints are audited.
func TestDeployedTellsTheTruth(t *testing.T) {
	want := readTruth(t).Deployed
	require.NotEmpty(t, want)
	d := serve(t, dataDirectory(t), "--resolver", estate.NameServer, "--allow-network",
		fmt.Sprintf("127.0.0.0/8=%d", estate.Port))
	c := d.client(t)
	require.Equal(t, 0, nurvik(t, "estate", "import", estate.EstateFile, "--server", d.address).status)
	o := nurvik(t, "collect", filepath.Join(estate.Machines, "barbican"), "--server", d.address)
	require.Equal(t, 0, o.status, o.stderr)
	call := []string{"run", "--follow", "--server", d.address}
	for target := range want {
		call = append(call, target)
	}
	o = nurvik(t, call...)
	require.Contains(t, o.stdout, "finished", o.stderr)
	for target, s := range want {
		e, err := c.FindEndpoint(t.Context(), target)
		require.NoError(t, err)
		x, err := c.Examination(t.Context(), e.ID)
		require.NoError(t, err)
		assert.Equal(t, sorted(s), told(*x.Judgement), target)
		if assert.Len(t, x.Judgement.Deployments, 1, target) {
			assert.Equal(t, target == "bailey.tarnholm.example:443" || target == "palisade.tarnholm.example:443",
				x.Judgement.Deployments[0].Agree, target)
		}
	}
}
