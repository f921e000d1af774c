package acceptance

import (
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
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
