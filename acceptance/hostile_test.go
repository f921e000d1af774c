package acceptance

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/plain"
	"nurvik/internal/audit"
)

// TestNothingSteersTheTerminal: what hostile machines hold in file names, link
// targets, certificates and answers reaches people as escapes.
func TestNothingSteersTheTerminal(t *testing.T) {
	directory := t.TempDir()
	text, err := os.ReadFile(filepath.Join(estate.Files, "customs-damaged.pem"))
	require.NoError(t, err)
	odd := "\x1b]0;owned\a\u202e\xff.pem"
	require.NoError(t, os.WriteFile(filepath.Join(directory, odd), text, 0o600))
	require.NoError(t, os.Symlink(odd, filepath.Join(directory, "link.crt")))
	at := fmt.Sprintf("127.30.7.27:%d", estate.Port)
	for name, arguments := range map[string][]string{
		"a walk":              {"audit", directory, "--long"},
		"a walk, identified":  {"identify", directory, "--long"},
		"a walk, paired":      {"pair", directory},
		"a file of that name": {"audit", filepath.Join(directory, odd)},
		"through a link":      {"identify", filepath.Join(directory, "link.crt"), "--long"},
		"a missing file":      {"audit", directory + "/\x1b[2J.crt"},
		"a wrong target":      {"audit", "\x1b[2J:x"},
		"a wrong flag":        {"audit", "a", "--at", "\x1b[2J"},
		"an answer":           {"audit", "siren.tarnholm.example", "--visit-at", at, "--long"},
		"an answer in JSON":   {"audit", "siren.tarnholm.example", "--visit-at", at, "-o", "json"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			o := nurvik(t, arguments...)
			assert.NotEmpty(t, o.stdout+o.stderr)
			assert.NoError(t, plain.Check(o.stdout, true))
			assert.NoError(t, plain.Check(o.stderr, true))
		})
	}
}

// TestFarTimes: dates that durations and JSON cannot write, of certificates and of the call.
func TestFarTimes(t *testing.T) {
	for host, tt := range map[string]struct {
		address, text string
		extra         []string
	}{
		"tides":   {"127.30.1.1", "expired", []string{"--at", "9999-12-31"}},
		"pilots":  {"127.30.1.2", "is not valid until", []string{"--at", "0000-01-01"}},
		"relic":   {"127.30.2.5", "expired on 1702-12-31 23:59 UTC, 1183", nil},
		"almanac": {"127.30.2.6", "is no time", nil},
	} {
		t.Run(host, func(t *testing.T) {
			t.Parallel()
			call := append([]string{"audit", host + ".tarnholm.example", "--visit-at",
				fmt.Sprintf("%s:%d", tt.address, estate.Port), "--trust", anchors("outer")}, tt.extra...)
			assert.NotEmpty(t, nurvik(t, call...).stdout)
			var report audit.Report
			require.NoError(t, json.Unmarshal([]byte(nurvik(t, append(call, "-o", "json")...).stdout), &report))
			require.Len(t, report.Targets, 1)
			said := ""
			for _, f := range report.Targets[0].Findings {
				said += f.Message + " "
			}
			assert.Contains(t, said, tt.text)
		})
	}
}
