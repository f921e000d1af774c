package acceptance

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestDraft(t *testing.T) {
	base := filepath.Dir(estate.EstateFile)
	served := fmt.Sprintf("tides.tarnholm.example:%d", estate.Port)
	d := t.TempDir()
	secret, plan := filepath.Join(d, "secret.txt"), filepath.Join(d, "plan.yaml")
	require.NoError(t, os.WriteFile(secret, []byte("Lodestar 8\n"), 0o600))
	require.NoError(t, os.WriteFile(plan, []byte(`defaults: {key: ec-p384}
requests:
  - names: [quay.tarnholm.example]
  - {names: [crane.tarnholm.example], file: winch}
`), 0o600))
	name := []string{"--name", "tides.tarnholm.example"}
	for title, tt := range map[string]struct {
		call   []string
		status int
		files  []string
	}{
		"from flags":        {name, 0, []string{"tides.tarnholm.example.csr", "tides.tarnholm.example.key"}},
		"another file name": {append(name, "--file", "new"), 0, []string{"new.csr", "new.key"}},
		"encrypted": {append(name, "--encrypt", "--new-password-file", secret), 0,
			[]string{"tides.tarnholm.example.csr", "tides.tarnholm.example.key"}},
		"a wildcard": {[]string{"--name", "*.tides.tarnholm.example", "--name", "tides.tarnholm.example"}, 0,
			[]string{"_.tides.tarnholm.example.csr", "_.tides.tarnholm.example.key"}},
		"a plan": {[]string{"--plan", plan}, 0, []string{"quay.tarnholm.example.csr", "quay.tarnholm.example.key",
			"winch.csr",
			"winch.key"}},
		"like a file": {[]string{"--like", filepath.Join(base, "hosts/replies/ebb.csr")}, 0,
			[]string{"ebb.tarnholm.example.csr", "ebb.tarnholm.example.key"}},
		"like an endpoint": {[]string{"--like", served}, 0,
			[]string{"tides.tarnholm.example.csr", "tides.tarnholm.example.key"}},
		"asks to be a CA": {[]string{"--like", filepath.Join(base,
			"hosts/applications/would-be-issuer.csr")}, 1, nil},
		"a risk is refused where that is asked": {append(name, "--country", "Tarnholm", "--fail-from", "risk"), 1, nil},
		"nothing asked":                         {nil, 2, nil},
		"plan and name":                         {append(name, "--plan", plan), 2, nil},
		"no such kind of key":                   {append(name, "--key", "dsa"), 2, nil},
		"a path as file name":                   {append(name, "--file", "../new"), 2, nil},
		"nobody to ask for a password":          {append(name, "--encrypt"), 2, nil},
		"like nothing":                          {[]string{"--like", filepath.Join(base, "files/README.txt")}, 3, nil},
		"like several":                          {[]string{"--like", filepath.Join(base, "hosts/replies")}, 2, nil},
	} {
		t.Run(title, func(t *testing.T) {
			t.Parallel()
			into := t.TempDir()
			o := nurvik(t, append([]string{"draft", "-o", "json", "--out", into, "--resolver", estate.NameServer},
				tt.call...)...)
			assert.Equal(t, tt.status, o.status, o.stderr)
			assert.NotContains(t, o.stdout+o.stderr, "PRIVATE KEY", "the key is never shown")
			entries, err := os.ReadDir(into)
			require.NoError(t, err)
			var files []string
			for _, e := range entries {
				files = append(files, e.Name())
				info, err := e.Info()
				require.NoError(t, err)
				mode := map[string]fs.FileMode{".key": 0o600, ".csr": 0o644}[filepath.Ext(e.Name())]
				assert.Equal(t, mode, info.Mode().Perm(), e.Name())
			}
			assert.Equal(t, tt.files, files)
			if len(files) == 0 {
				return
			}
			pairs := nurvik(t, "pair", into, "--password-file", secret, "-o", "json")
			assert.Equal(t, 0, pairs.status, pairs.stdout)
			assert.Len(t, decoded[struct{ Groups []struct{ Key string } }](t, pairs.stdout).Groups, len(files)/2,
				"each key with its request")
			assert.Equal(t, 0, nurvik(t, "audit", into, "--password-file", secret).status)
			again := nurvik(t, append([]string{"draft", "--out", into, "--resolver", estate.NameServer}, tt.call...)...)
			assert.Equal(t, 2, again.status, "nothing is replaced")
		})
	}
}

func TestCoverDrafts(t *testing.T) {
	into := t.TempDir()
	o := nurvik(t, "cover", filepath.Join(estate.Files, "tides.der"), "--name", "a.tarnholm.example", "--name",
		"b.tarnholm.example", "--name", "c.tarnholm.example", "--draft", into, "--wildcards", "-o", "json")
	assert.Equal(t, 1, o.status, "the names are still not covered")
	assert.Contains(t, o.stderr, "*.tarnholm.example")
	assert.False(t, decoded[coverage](t, o.stdout).Covered)
	assert.FileExists(t, filepath.Join(into, "_.tarnholm.example.key"))
	o = nurvik(t, "cover", filepath.Join(into, "_.tarnholm.example.csr"), "--name", "a.tarnholm.example")
	assert.Equal(t, 1, o.status, "a request is no certificate")
}
