package core

import (
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// floors are the packages of the core from the ground up: a package may import
// only what stands on a lower floor.
var floors = [][]string{
	{"spelling", "pbe", "tlswire", "limits", "life", "plain", "rescue", "inputfile"},
	{"strictyaml"},
	{"pki", "forge", "ciphers"},
	{"facts", "naming", "lifetime", "keystore", "keycheck", "forge/maze"},
	{"words", "brief", "endpoint", "policy", "wanted"},
	{"intake", "pairing", "inventory", "draft", "serverconf", "proposal"},
	{"trust"},
	{"chain", "probe"},
	{"judge"},
	{"assess", "compare"},
	{"pack", "history"},
}

// forbidden are imports that would bring an interface into the core.
var forbidden = []string{"database/", "net/http", "os/signal", "log", "gorm.io", "github.com/jackc", "github.com/spf13",
	"github.com/go-chi", "github.com/danielgtaylor"}

// sockets are for the probe alone: judging sees facts, never the network or the clock's Now.
var sockets = []string{"net", "crypto/tls"}

func TestImportsRunDownwards(t *testing.T) {
	floor := map[string]int{}
	for i, names := range floors {
		for _, n := range names {
			floor[n] = i
		}
	}
	seen := map[string]bool{}
	walkImports(t, func(file, pkg, path string) {
		level, known := floor[pkg]
		require.True(t, known, "%s: the package is on no floor; give it one in this test", file)
		seen[pkg] = true
		assert.False(t, strings.HasPrefix(path, "nurvik/internal"), "%s imports %s: the core knows nothing of the rest",
			file, path)
		for _, f := range forbidden {
			assert.False(t, path == strings.TrimSuffix(f, "/") || strings.HasPrefix(path, f),
				"%s imports %s: no interface in the core", file, path)
		}
		for _, s := range sockets {
			assert.False(t, path == s && pkg != "probe" && pkg != "endpoint", "%s imports %s: only the probe may", file,
				path)
		}
		if other, ok := strings.CutPrefix(path, "nurvik/core/"); ok {
			assert.Less(t, floor[other], level, "%s imports %s, which is not below it", file, path)
		}
	})
	assert.Len(t, seen, len(floor), "a floor names a package that is not there")
}

// TestNoClock finds calls of time.Now in the core: time is a parameter.
func TestNoClock(t *testing.T) {
	require.NoError(t, filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		source := readFile(t, path)
		for _, call := range []string{"time.Now()", "time.Since(", "time.Until("} {
			assert.NotContains(t, source, call, path)
		}
		return nil
	}))
}

func walkImports(t *testing.T, each func(file, pkg, path string)) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		require.NoError(t, err)
		for _, i := range file.Imports {
			imported, err := strconv.Unquote(i.Path.Value)
			require.NoError(t, err)
			each(path, filepath.Dir(path), imported)
		}
		return nil
	}))
}

func readFile(t *testing.T, path string) string {
	t.Helper()
	data, err := fs.ReadFile(os.DirFS("."), path)
	require.NoError(t, err)
	return string(data)
}
