package serverconf_test

import (
	"flag"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/serverconf"
)

var update = flag.Bool("update", false, "write the golden files anew")

// machines are the trees below testdata, each with the configuration of one server.
func machines(t *testing.T) []string {
	t.Helper()
	found, err := filepath.Glob("testdata/*/etc")
	require.NoError(t, err)
	more, err := filepath.Glob("testdata/*/var")
	require.NoError(t, err)
	seen := map[string]bool{}
	var out []string
	for _, path := range append(found, more...) {
		if root := filepath.Dir(path); !seen[root] {
			seen[root] = true
			out = append(out, root)
		}
	}
	require.Greater(t, len(out), 14)
	return out
}

// read recognises and reads every main file of a machine.
func read(t *testing.T, root string) (all []facts.Configuration) {
	t.Helper()
	m := &serverconf.Machine{Root: root}
	require.NoError(t, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() || strings.HasSuffix(path, ".txt") {
			return err
		}
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		if r := serverconf.Recognise(path, data); r.Like == serverconf.IsMain {
			all = append(all, serverconf.Read(m, r.Server, path))
		}
		return nil
	}))
	return all
}

// TestRead compares with golden files, which were read by people when they were written.
func TestRead(t *testing.T) {
	for _, root := range machines(t) {
		t.Run(filepath.Base(root), func(t *testing.T) {
			absolute, err := filepath.Abs(root)
			require.NoError(t, err)
			all := read(t, absolute)
			require.Len(t, all, 1)
			got := shown(all[0], absolute)
			golden := root + ".txt"
			if *update {
				require.NoError(t, os.WriteFile(golden, []byte(got), 0o600))
			}
			want, err := os.ReadFile(golden)
			require.NoError(t, err)
			assert.Equal(t, string(want), got)
		})
	}
}
