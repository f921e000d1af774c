package acceptance

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAlerts: the alert rules are read, are silent while all is well, and each speaks of what it is for.
func TestAlerts(t *testing.T) {
	t.Parallel()
	for _, call := range [][]string{{"check", "rules", "../deploy/nurvikd-alerts.yaml"},
		{"test", "rules", "../deploy/testdata/alerts-test.yaml"}} {
		output, err := exec.CommandContext(t.Context(), "promtool", call...).CombinedOutput()
		assert.NoError(t, err, string(output))
	}
}

// TestDashboard: promtool reads every query of the dashboard.
func TestDashboard(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../deploy/nurvikd-dashboard.json")
	require.NoError(t, err)
	var dashboard struct {
		Panels []struct {
			Title   string
			Targets []struct{ Expr string }
		}
	}
	require.NoError(t, json.Unmarshal(text, &dashboard))
	rules := strings.Builder{}
	rules.WriteString("groups:\n  - name: dashboard\n    rules:\n")
	queries := 0
	for _, p := range dashboard.Panels {
		require.NotEmpty(t, p.Targets, p.Title)
		for _, target := range p.Targets {
			queries++
			fmt.Fprintf(&rules, "      - record: query:%d\n        expr: %q\n", queries, target.Expr)
		}
	}
	require.Greater(t, queries, 10)
	file := filepath.Join(t.TempDir(), "rules.yaml")
	require.NoError(t, os.WriteFile(file, []byte(rules.String()), 0o600))
	output, err := exec.CommandContext(t.Context(), "promtool", "check", "rules", file).CombinedOutput()
	require.NoError(t, err, string(output))
	assert.Contains(t, string(output), fmt.Sprintf("%d rules found", queries))
}
