package audit_test

import (
	"context"
	"encoding/pem"
	"errors"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/judge"
	"nurvik/core/limits"
	"nurvik/core/probe"
	"nurvik/internal/audit"
	"nurvik/internal/harbour"
)

// world is a harbour's files, without its ports.
func world(t *testing.T) *harbour.Harbour {
	t.Helper()
	h, err := harbour.Start(harbour.Options{Directory: t.TempDir(), Now: time.Now()})
	require.NoError(t, err)
	h.Close()
	return h
}

func options(t *testing.T, network probe.Network) audit.Options {
	t.Helper()
	return audit.Options{Prober: probe.New(network, limits.Limits{Handshake: time.Second}), At: time.Now()}
}

// nowhere is a network without routes or names.
func nowhere() probe.Network {
	return probe.Network{
		Dial: func(context.Context, netip.AddrPort) (net.Conn, error) { return nil, errors.New("no network") },
		Lookup: func(context.Context, string) ([]netip.Addr, error) {
			return []netip.Addr{netip.MustParseAddr("2001:db8::1")}, nil
		},
		HasRoute: func(netip.Addr) bool { return false },
		Now:      time.Now,
	}
}

func TestFilesUseTheEstatesStoresAndDefaults(t *testing.T) {
	h := world(t)
	file := filepath.Join(h.Files, "tides-fullchain.pem")
	verdict := func(r audit.Request) judge.Verdict {
		plan, err := audit.NewPlan(t.Context(), r)
		require.NoError(t, err)
		for _, target := range plan.Run(t.Context(), options(t, nowhere())).Targets {
			if target.Target == file {
				return target.Verdict
			}
		}
		return ""
	}
	assert.Equal(t, judge.Faulty, verdict(audit.Request{Targets: []string{file}}),
		"the system does not know the harbour's issuer")
	assert.Equal(t, judge.Sound, verdict(audit.Request{Targets: []string{file}, Estate: h.EstateFile}),
		"the estate's default does")
	assert.Equal(t, judge.Faulty, verdict(audit.Request{Targets: []string{file}, Estate: h.EstateFile,
		Trust: []string{"inner"}}), "the call comes before the default")
	assert.Equal(t, judge.Sound, verdict(audit.Request{Targets: []string{file}, Estate: h.EstateFile,
		Trust: []string{"inner", "outer"}}))
}

// TestEstatesAreNamed: an estate file that somebody else has put among the
// targets is not obeyed.
func TestEstatesAreNamed(t *testing.T) {
	h, directory := world(t), t.TempDir()
	data, err := os.ReadFile(h.EstateFile)
	require.NoError(t, err)
	upload, named := filepath.Join(directory, "uploads", "upload.yaml"), filepath.Join(directory, "estate.txt")
	require.NoError(t, os.MkdirAll(filepath.Dir(upload), 0o700))
	for _, path := range []string{upload, named} {
		require.NoError(t, os.WriteFile(path, data, 0o600))
	}
	require.NoError(t, os.Symlink(filepath.Join(filepath.Dir(h.EstateFile), "anchors"),
		filepath.Join(directory, "anchors")))
	require.NoError(t, os.Symlink(filepath.Join(filepath.Dir(h.EstateFile), "anchors"),
		filepath.Join(directory, "uploads", "anchors")))
	file := filepath.Join(h.Files, "tides-fullchain.pem")
	tests := []struct {
		name    string
		request audit.Request
		obeyed  bool
	}{
		{"alone", audit.Request{Targets: []string{upload}}, true},
		{"named by the flag", audit.Request{Estate: named}, true},
		{"named by the flag, beside others", audit.Request{Estate: named, Targets: []string{file}}, true},
		{"among others", audit.Request{Targets: []string{upload, file}}, false},
		{"among others, whatever the order", audit.Request{Targets: []string{file, upload}}, false},
		{"under another name", audit.Request{Targets: []string{named}}, false},
		{"in a walk", audit.Request{Targets: []string{filepath.Dir(upload)}}, false},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			plan, err := audit.NewPlan(t.Context(), tt.request)
			require.NoError(t, err)
			assert.Equal(t, tt.obeyed, plan.Steps() > 0)
			assert.Equal(t, tt.obeyed, len(plan.Networks()) > 0)
			assert.Equal(t, tt.obeyed, plan.Resolver() != nil)
			assert.Equal(t, tt.obeyed, len(plan.Notes()) == 0, "%v", plan.Notes())
		})
	}
}

func TestFamilyWithoutRouteIsToldOnce(t *testing.T) {
	plan, err := audit.NewPlan(t.Context(), audit.Request{Targets: []string{"tides.tarnholm.example",
		"pilots.tarnholm.example"}})
	require.NoError(t, err)
	r := plan.Run(t.Context(), options(t, nowhere()))
	assert.Empty(t, r.Targets, "what was not visited has no verdict")
	assert.Len(t, r.Unexamined, 2)
	assert.Equal(t, []string{"2001:db8::1"}, r.NoRoute)
}

func TestTargetsAreToldApart(t *testing.T) {
	directory := t.TempDir()
	h := world(t)
	data, err := os.ReadFile(filepath.Join(h.Files, "tides.der"))
	require.NoError(t, err)
	odd := filepath.Join(directory, "tides:443") // a name like an endpoint's, but it exists as a path
	require.NoError(t, os.WriteFile(odd, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: data}), 0o600))
	tests := []struct {
		name, target, unexamined string
		steps                    int
		usage                    string
	}{
		{"host", "tides.tarnholm.example", "", 1, ""},
		{"host and port", "tides.tarnholm.example:8443", "", 1, ""},
		{"scheme", "imaps://post.tarnholm.example", "", 1, ""},
		{"a path", odd, "", 0, ""},
		{"a path that is not there", "./tides.tarnholm.example", "no such file", 0, ""},

		{"neither", "not a target", "", 0, "neither"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			plan, err := audit.NewPlan(t.Context(), audit.Request{Targets: []string{tt.target},
				Stdin: strings.NewReader("")})
			if tt.usage != "" {
				var wrong *audit.UsageError
				require.ErrorAs(t, err, &wrong)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, tt.steps, plan.Steps())
			if tt.unexamined != "" {
				r := plan.Run(t.Context(), options(t, nowhere()))
				assert.Contains(t, r.Unexamined[0].Reason, tt.unexamined)
			}
		})
	}
}

func TestProgressCountsEveryVisit(t *testing.T) {
	plan, err := audit.NewPlan(t.Context(), audit.Request{Targets: []string{"a.tarnholm.example", "b.tarnholm.example",
		"c.tarnholm.example"}})
	require.NoError(t, err)
	var seen []int
	o := options(t, nowhere())
	o.Progress = func(done, total int) {
		assert.Equal(t, 3, total)
		seen = append(seen, done)
	}
	plan.Run(t.Context(), o)
	assert.Equal(t, []int{1, 2, 3}, seen)
}

func TestReaches(t *testing.T) {
	findings := []judge.Finding{{Severity: judge.None}, {Severity: judge.Risk}}
	r := &audit.Report{Targets: []audit.Target{{Judgement: judge.Judgement{Findings: findings}}}}
	assert.False(t, r.Reaches(judge.Fault))
	assert.True(t, r.Reaches(judge.Risk))
	assert.True(t, r.Reaches(judge.Note))
	r.Targets[0].Findings = r.Targets[0].Findings[:1]
	assert.False(t, r.Reaches(judge.Note), "what only says why an endpoint is unreachable is no finding to fail for")
}

// TestMistypedFiles: a name that would be taken for a host is a wrong call,
// which names the file that is there.
func TestMistypedFiles(t *testing.T) {
	t.Chdir(t.TempDir())
	for _, name := range []string{"estate.yaml", "tides.pem", "quay"} {
		require.NoError(t, os.WriteFile(name, nil, 0o600))
	}
	tests := []struct{ name, target, want string }{
		{"a letter is missing", "estat.yaml", "there is no file estat.yaml; estate.yaml may be meant"},
		{"swapped", "tides.pme", "there is no file tides.pme; tides.pem may be meant"},
		{"the ending is missing", "tides.pe", "tides.pem may be meant"},
		{"nothing is like it", "harbour.crt",
			"there is no file harbour.crt. To visit a host of that name, write harbour.crt:443"},
		{"a host", "tides.tarnholm.example", ""},
		{"a host that is nearly a file without an ending", "quai", ""},
		{"with a port it is a host", "estat.yaml:443", ""},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			_, err := audit.NewPlan(t.Context(), audit.Request{Targets: []string{tt.target}})
			if tt.want == "" {
				assert.NoError(t, err)
				return
			}
			var usage *audit.UsageError
			require.ErrorAs(t, err, &usage)
			assert.ErrorContains(t, err, tt.want)
		})
	}
}
