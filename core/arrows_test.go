package core

import (
	"go/ast"
	"go/parser"
	"go/token"
	"go/types"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// ordered are the packages whose files stand above each other like packages do:
// no file uses, over whatever detours, one that uses it.
var ordered = []string{"judge", "probe", "assess", "facts", "words", "brief", "life", "endpoint", "policy"}

func TestFilesRunDownwards(t *testing.T) {
	for _, name := range ordered {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			uses := arrows(t, name)
			for file := range uses {
				if way := circle(uses, file, file, map[string]bool{}); way != nil {
					assert.Fail(t, "files go in a circle", strings.Join(append([]string{file}, way...), " → "))
				}
			}
		})
	}
}

// circle is a way from the file back to the goal, nil for none.
func circle(uses map[string]map[string]bool, file, goal string, seen map[string]bool) []string {
	for next := range uses[file] {
		if next == goal {
			return []string{next}
		}
		if !seen[next] {
			seen[next] = true
			if way := circle(uses, next, goal, seen); way != nil {
				return append([]string{next}, way...)
			}
		}
	}
	return nil
}

// arrows are the files that each file of a package uses. Other packages are not
// looked at: what is theirs cannot be ours.
func arrows(t *testing.T, name string) map[string]map[string]bool {
	t.Helper()
	set := token.NewFileSet()
	paths, err := filepath.Glob(filepath.Join(name, "*.go"))
	require.NoError(t, err)
	paths = slices.DeleteFunc(paths, func(p string) bool { return strings.HasSuffix(p, "_test.go") })
	require.NotEmpty(t, paths)
	var files []*ast.File
	for _, p := range paths {
		f, err := parser.ParseFile(set, p, nil, 0)
		require.NoError(t, err)
		files = append(files, f)
	}
	info := &types.Info{Uses: map[*ast.Ident]types.Object{}}
	// of other packages nothing is known, which is no error here
	config := types.Config{Importer: nothing{}, Error: func(error) {}}
	own, _ := config.Check(name, set, files, info)
	fileOf := func(at token.Pos) string { return filepath.Base(set.Position(at).Filename) }
	uses := map[string]map[string]bool{}
	for identifier, object := range info.Uses {
		from, to := fileOf(identifier.Pos()), fileOf(object.Pos())
		local := object.Parent() != nil && object.Parent() != own.Scope()
		if object.Pkg() != own || local || from == to {
			continue
		}
		if uses[from] == nil {
			uses[from] = map[string]bool{}
		}
		uses[from][to] = true
	}
	return uses
}

// nothing imports empty packages.
type nothing struct{}

// Import implements types.Importer.
func (nothing) Import(path string) (*types.Package, error) {
	p := types.NewPackage(path, filepath.Base(path))
	p.MarkComplete()
	return p, nil
}
