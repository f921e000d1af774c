package web_test

import (
	"encoding/json"
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/service/web"
)

var update = flag.Bool("update", false, "rewrite documents")

// TestDocument holds docs/openapi.json, from which the console's types are made, to the code.
func TestDocument(t *testing.T) {
	got, err := web.Document()
	require.NoError(t, err)
	path := filepath.Join("..", "..", "..", "docs", "openapi.json")
	if *update {
		require.NoError(t, os.WriteFile(path, append(got, '\n'), 0o644))
	}
	want, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, strings.TrimSpace(string(want)), string(got), `"make docs" writes it anew`)

	var document struct {
		OpenAPI string
		Paths   map[string]map[string]struct {
			OperationID string
			Summary     string
		}
	}
	require.NoError(t, json.Unmarshal(got, &document))
	assert.True(t, strings.HasPrefix(document.OpenAPI, "3.1"))
	seen := map[string]bool{}
	for path, operations := range document.Paths {
		assert.True(t, strings.HasPrefix(path, "/api/v1/"), path)
		for _, o := range operations {
			assert.NotEmpty(t, o.Summary, path)
			assert.False(t, seen[o.OperationID], o.OperationID)
			seen[o.OperationID] = true
		}
	}
}
