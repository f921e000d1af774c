package acceptance

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/audit"
)

func TestExitStatus(t *testing.T) {
	outer, inner := anchors("outer"), anchors("inner")
	at := func(address string) string { return fmt.Sprintf("127.30.%s:%d", address, estate.Port) }
	file := func(name string) string { return filepath.Join(estate.Files, name) }
	empty := filepath.Join(t.TempDir(), "empty.pem")
	require.NoError(t, os.WriteFile(empty, nil, 0o600))
	misspelt := filepath.Join(t.TempDir(), "estate.yaml")
	require.NoError(t, os.WriteFile(misspelt, []byte("endpoints:\n  - endpoit: a.example\n"), 0o600))

	tests := []struct {
		name   string
		call   []string
		status int
		stderr string
		stdout string
	}{
		{"sound", []string{"audit", "tides.tarnholm.example", "--visit-at", at("1.1"), "--trust", outer}, 0, "",
			"· sound"},
		{"faulty", []string{"audit", "cranes.tarnholm.example", "--visit-at", at("2.1"), "--trust", outer}, 1, "",
			"time.expired"},
		{"at risk does not count by default", []string{"audit", "berths.tarnholm.example", "--visit-at", at("2.2"),
			"--trust", outer}, 0, "", "time.expires-soon"},
		{"unless it is asked for", []string{"audit", "berths.tarnholm.example", "--visit-at", at("2.2"), "--trust",
			outer, "--fail-from", "risk"}, 1, "", ""},
		{"notes count when asked for", []string{"audit", "mooring.tarnholm.example", "--visit-at", at("1.9"), "--trust",
			outer, "--fail-from", "note"}, 1, "", ""},
		{"never", []string{"audit", "cranes.tarnholm.example", "--visit-at", at("2.1"), "--trust", outer, "--fail-from",
			"never"}, 0, "", "faulty"},
		{"unreachable", []string{"audit", "drydock.tarnholm.example", "--visit-at", at("8.1")}, 3, "", "reach.refused"},
		{"a finding comes before what is unexamined", []string{"audit", "cranes.tarnholm.example", empty, "--visit-at",
			at("2.1"), "--trust", outer}, 1, "", "not examined"},
		{"a name that the name server does not know", []string{"audit", "unlisted.tarnholm.example"}, 3, "",
			"dns.unresolved"},
		{"all addresses of a name", []string{"audit", fmt.Sprintf("quays.tarnholm.example:%d", estate.Port), "--trust",
			outer}, 0, "", "· sound"},
		{"one of several does not answer", []string{"audit", fmt.Sprintf("dredger.tarnholm.example:%d", estate.Port),
			"--trust", outer}, 0, "", "reach.address-refused"},
		{"a second store as alternative", []string{"audit", "ledger.tarnholm.example", "--visit-at", at("1.3"),
			"--trust", outer, "--trust", inner}, 0, "", "· sound"},
		{"an audience that does not accept", []string{"audit", "tides.tarnholm.example", "--visit-at", at("1.1"),
			"--trust", outer, "--audience", inner}, 1, "", "trust.audience-split"},
		{"a store of the rehearsal kind", []string{"audit", "pontoon.tarnholm.example", "--visit-at", at("4.2"),
			"--trust", outer, "--trust", "rehearsal:" + anchors("rehearsal")}, 1, "", "trust.rehearsal-issuer"},
		{"as of next year", []string{"audit", "tides.tarnholm.example", "--visit-at", at("1.1"), "--trust", outer,
			"--at", "+52w"}, 1, "", "time.expired"},
		{"names that must be covered", []string{"audit", "tides.tarnholm.example", "--visit-at", at("1.1"), "--trust",
			outer, "--name", "tides.tarnholm.example", "--name", "ebb.tarnholm.example"}, 1, "",
			"does not cover ebb.tarnholm.example"},
		{"a file", []string{"audit", file("tides-fullchain.pem"), "--trust", outer}, 0, "", "· sound"},
		{"a file and the name it must cover", []string{"audit", file("tides-fullchain.pem"), "--trust", outer, "--name",
			"ebb.tarnholm.example"}, 1, "", "name.uncovered"},
		{"the harbour's own bundle", []string{"audit", file("outer-authorities.pem")}, 0, "", "· sound"},
		{"a search that was given up", []string{"audit", file("maze.pem"), "--trust", outer}, 3, "", "chain.gave-up"},
		{"an empty file", []string{"audit", empty}, 3, "", "empty.pem: nothing was"},
		{"a file that is not there", []string{"audit", "./none.pem"}, 3, "", "./none.pem: no such file"},
		{"neither endpoint nor file", []string{"audit", "two words"}, 2, "a file of this name does not exist either",
			""},
		{"a file name that would be a host", []string{"audit", "tides.pme"}, 2, "there is no file tides.pme", ""},
		{"no target", []string{"audit"}, 2, "requires at least 1 arg", ""},
		{"unknown flag", []string{"audit", "a.example", "--frm", "x"}, 2, "unknown flag: --frm", ""},
		{"unknown command", []string{"adit"}, 2, `there is no command "adit"; "audit" may be meant`, ""},
		{"unknown command below another", []string{"estate", "lst"}, 2, `"list" may be meant`, ""},
		{"no time", []string{"audit", "a.example", "--at", "tomorrow"}, 2, "2027-03-15", ""},
		{"no severity", []string{"audit", "a.example", "--fail-from", "bad"}, 2, "fault, risk, note or never", ""},
		{"no policy", []string{"audit", "a.example", "--policy", "open-sea"}, 2, "open-web", ""},
		{"no output form", []string{"audit", "a.example", "-o", "xml"}, 2, "there are icalendar, json, jsonl, table",
			""},
		{"no name", []string{"audit", "a.example", "--name", "*.example"}, 2, "neither a host name nor an address", ""},
		{"no address", []string{"audit", "a.example", "--visit-at", "b.example"}, 2, "ADDRESS:PORT", ""},
		{"visit-at without an endpoint", []string{"audit", file("tides.der"), "--visit-at", "192.0.2.1"}, 2,
			"no endpoint is named", ""},
		{"a store that cannot be read", []string{"audit", "a.example", "--trust", "./none.pem"}, 3, "./none.pem", ""},
		{"a misspelt estate file", []string{"audit", misspelt}, 2,
			`:2: the key "endpoit" is not known; "endpoint" may be meant`, ""},
		{"explain", []string{"explain", "chain.incomplete"}, 0, "", "An intermediate certificate is missing"},
		{"explain an unknown code", []string{"explain", "chain.broken"}, 2, "chain.bad-signature", ""},
		{"version", []string{"version"}, 0, "", "nurvik "},
		{"completion", []string{"completion", "bash"}, 0, "", "nurvik"},
		{"a service that is not there", []string{"estate", "list", "--server", "http://127.0.0.1:1"}, 3,
			"nurvikd serve", ""},
		{"no service's address", []string{"findings", "--server", "north"}, 2, "http://HOST:PORT", ""},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			o := nurvik(t, tt.call...)
			assert.Equal(t, tt.status, o.status, "%s\n%s", o.stdout, o.stderr)
			assert.Contains(t, o.stderr, tt.stderr)
			assert.Contains(t, o.stdout, tt.stdout)
			if tt.status == 2 {
				assert.Empty(t, o.stdout, "results and complaints do not mix")
			}
		})
	}
}

func TestStandardInput(t *testing.T) {
	data, err := os.ReadFile(filepath.Join(estate.Files, "customs-damaged.pem"))
	require.NoError(t, err)
	o := call(t, string(data), "nurvik", "audit", "-", "-o", "json")
	assert.Equal(t, 1, o.status)
	var report audit.Report
	require.NoError(t, json.Unmarshal([]byte(o.stdout), &report))
	require.Len(t, report.Targets, 1)
	assert.Equal(t, "standard input", report.Targets[0].Target)
	assert.Equal(t, "file.damaged", report.Targets[0].Findings[0].Code)
}

func TestSettingsFromTheEnvironment(t *testing.T) {
	t.Setenv("NURVIK_FAIL_FROM", "never")
	t.Setenv("NURVIK_TRUST", filepath.Join(filepath.Dir(estate.EstateFile), "anchors", "outer.pem"))
	o := nurvik(t, "audit", "cranes.tarnholm.example", "--visit-at", fmt.Sprintf("127.30.2.1:%d", estate.Port))
	assert.Equal(t, 0, o.status, o.stderr)
	assert.Contains(t, o.stdout, "time.expired")
	assert.NotContains(t, o.stdout, "trust.")
}

// TestSystemBundle audits Debian's own bundle: everything in it decodes.
func TestSystemBundle(t *testing.T) {
	o := nurvik(t, "audit", "/etc/ssl/certs/ca-certificates.crt", "-o", "json")
	assert.Equal(t, 0, o.status, o.stderr)
	var report audit.Report
	require.NoError(t, json.Unmarshal([]byte(o.stdout), &report))
	require.Len(t, report.Targets, 1)
	assert.Greater(t, len(report.Targets[0].Certificates), 100)
	for _, f := range report.Targets[0].Findings {
		assert.Equal(t, "file.malformed-certificate", f.Code, "at most departures from the standard: %s", f.Message)
	}
}

// TestInterruptedAudit stops an audit of a silent endpoint: what is known is printed.
func TestInterruptedAudit(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	cmd := exec.Command(filepath.Join(binaries, "nurvik"), "audit", l.Addr().String(),
		filepath.Join(estate.Files, "tides-fullchain.pem"), "-o", "json")
	var stdout, stderr strings.Builder
	cmd.Stdout, cmd.Stderr = &stdout, &stderr
	require.NoError(t, cmd.Start())
	met, err := l.Accept()
	require.NoError(t, err)
	defer met.Close()
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	started := time.Now()
	_ = cmd.Wait()
	assert.Equal(t, 3, cmd.ProcessState.ExitCode())
	assert.Less(t, time.Since(started), 5*time.Second, "it does not wait for the deadline")
	assert.Contains(t, stderr.String(), "interrupted")
	var report audit.Report
	require.NoError(t, json.Unmarshal([]byte(stdout.String()), &report))
	assert.Len(t, report.Targets, 1, "the file is judged")
	assert.Contains(t, report.Unexamined[0].Reason, "interrupted")
}
