package main

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestClientLinksNoDatabase: the client is for machines that have none.
func TestClientLinksNoDatabase(t *testing.T) {
	output, err := exec.Command("go", "list", "-deps", ".").CombinedOutput()
	require.NoError(t, err, string(output))
	packages := strings.Fields(string(output))
	require.Contains(t, packages, "nurvik/internal/cli")
	for _, p := range packages {
		for _, other := range []string{"database/sql", "gorm.io/", "github.com/jackc/", "github.com/riverqueue/",
			"github.com/pressly/", "nurvik/internal/service"} {
			assert.False(t, p == other || strings.HasPrefix(p, other), p)
		}
	}
}
