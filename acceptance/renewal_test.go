package acceptance

import (
	"encoding/json"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"nurvik/core/endpoint"
	"nurvik/internal/audit"
	"nurvik/internal/estatefile"
)

// TestRenewalTellsTheTruth looks at what the next renewals of the harbour will meet.
func TestRenewalTellsTheTruth(t *testing.T) {
	want := readTruth(t).Renewal
	require.NotEmpty(t, want)
	e, err := estatefile.Read(estate.EstateFile)
	require.NoError(t, err)
	e.Endpoints = slices.DeleteFunc(e.Endpoints,
		func(s endpoint.Settings) bool { return want[s.Endpoint].Verdict == "" })
	require.Len(t, e.Endpoints, len(want))
	text, err := yaml.Marshal(e)
	require.NoError(t, err)
	path := filepath.Join(filepath.Dir(estate.EstateFile), "renewal.yaml") // the stores lie beside it
	require.NoError(t, os.WriteFile(path, text, 0o644))

	o := nurvik(t, "audit", path, "--renewal", "--also-resolver", estate.NameServer, "--fail-from", "risk",
		"-o", "json")
	assert.Equal(t, 1, o.status, o.stderr)
	var report audit.Report
	require.NoError(t, json.Unmarshal([]byte(o.stdout), &report))
	for _, target := range report.Targets {
		assert.Equal(t, sorted(want[target.Target]), told(target.Judgement), target.Target)
	}
	assert.Len(t, report.Targets, len(want))
	assert.Empty(t, report.Unexamined)

	o = nurvik(t, "audit", path, "--renewal")
	assert.Equal(t, 0, o.status, "risks alone are no fault")
	assert.Contains(t, o.stdout, "leads nowhere", "the table of names says what was seen of each")

	closed, err := net.ListenPacket("udp", "127.0.0.1:0") // and never answers
	require.NoError(t, err)
	require.NoError(t, closed.Close())
	o = nurvik(t, "audit", path, "--renewal", "--also-resolver", closed.LocalAddr().String())
	assert.Equal(t, 3, o.status, "what was not learnt is not taken for sound")
	assert.Contains(t, strings.ReplaceAll(o.stdout, "\n", " "),
		"of log.oarlock.tarnholm.example: the name server did not")
}

func TestRenewalCalls(t *testing.T) {
	for name, args := range map[string][]string{
		"--renewal looks at endpoints":    {"audit", estate.Files, "--renewal"},
		"--also-resolver is for":          {"audit", "127.0.0.1:1", "--also-resolver", "192.0.2.1"},
		`"ns.example" is no name server:`: {"audit", "127.0.0.1:1", "--renewal", "--also-resolver", "ns.example"},
	} {
		o := nurvik(t, args...)
		assert.Equal(t, 2, o.status, name)
		assert.Contains(t, o.stderr, name)
	}
}
