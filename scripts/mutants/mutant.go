package main

import (
	"encoding/json"
	"fmt"
	"go/ast"
	"go/format"
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
)

// mutant is one change of one file.
type mutant struct {
	name   string // file, function, and what is changed to what; it lasts when lines move
	file   string
	source []byte // of the whole file
}

// outcome is what became of a mutant.
type outcome int

const (
	survived outcome = iota
	killed
	broken // it does not compile, so that no test is needed
)

// others are what a comparison is changed to: its opposite, and its neighbour at the boundary.
var others = map[token.Token][]token.Token{
	token.EQL: {token.NEQ}, token.NEQ: {token.EQL},
	token.LSS: {token.LEQ, token.GEQ}, token.LEQ: {token.LSS, token.GTR},
	token.GTR: {token.GEQ, token.LEQ}, token.GEQ: {token.GTR, token.LSS},
}

// mutantsOf are those of all files of the package but its tests.
func mutantsOf(pkg string) ([]mutant, error) {
	paths, err := filepath.Glob(filepath.Join(pkg, "*.go"))
	if err != nil {
		return nil, err
	}
	var out []mutant
	for _, path := range paths {
		if strings.HasSuffix(path, "_test.go") {
			continue
		}
		more, err := mutantsIn(path)
		if err != nil {
			return nil, err
		}
		out = append(out, more...)
	}
	return out, nil
}

func mutantsIn(path string) ([]mutant, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	files := token.NewFileSet()
	tree, err := parser.ParseFile(files, path, text, parser.ParseComments)
	if err != nil {
		return nil, err
	}
	var out []mutant
	seen := map[string]int{}
	add := func(where, was, is string, from, to token.Pos, replacement string) {
		name := fmt.Sprintf("%s %s: %s → %s", filepath.Base(path), where, was, is)
		if seen[name]++; seen[name] > 1 {
			name += fmt.Sprintf(" (%d)", seen[name])
		}
		start, end := files.Position(from).Offset, files.Position(to).Offset
		source := append([]byte{}, text[:start]...)
		source = append(append(source, replacement...), text[end:]...)
		out = append(out, mutant{name, path, source})
	}
	for _, d := range tree.Decls {
		where := "declarations"
		if f, ok := d.(*ast.FuncDecl); ok {
			where = f.Name.Name
		}
		ast.Inspect(d, func(n ast.Node) bool {
			switch x := n.(type) {
			case *ast.BinaryExpr:
				for _, op := range others[x.Op] {
					was := shown(files, x)
					is := shown(files, &ast.BinaryExpr{X: x.X, Op: op, Y: x.Y})
					add(where, was, is, x.OpPos, x.OpPos+token.Pos(len(x.Op.String())), op.String())
				}
			case *ast.BasicLit:
				if more, ok := larger(x); ok {
					add(where, x.Value, more, x.Pos(), x.End(), more)
				}
			case *ast.Ident:
				if flipped := map[string]string{"true": "false", "false": "true"}[x.Name]; flipped != "" {
					add(where, x.Name, flipped, x.Pos(), x.End(), flipped)
				}
			}
			return true
		})
	}
	return out, nil
}

// larger is the next whole number.
func larger(x *ast.BasicLit) (string, bool) {
	if x.Kind != token.INT {
		return "", false
	}
	n, err := strconv.ParseInt(x.Value, 0, 64)
	return strconv.FormatInt(n+1, 10), err == nil
}

// shown is the expression in one line.
func shown(files *token.FileSet, x ast.Expr) string {
	var b strings.Builder
	if err := format.Node(&b, files, x); err != nil {
		return err.Error()
	}
	return strings.Join(strings.Fields(b.String()), " ")
}

// try runs the package's tests on the mutant, in a directory of the worker.
func (m mutant) try(pkg, work string) outcome {
	if err := os.MkdirAll(work, 0o700); err != nil {
		return survived
	}
	file, overlay := filepath.Join(work, "mutant.go"), filepath.Join(work, "overlay.json")
	here, err := filepath.Abs(m.file)
	if err != nil {
		return survived
	}
	list, err := json.Marshal(map[string]map[string]string{"Replace": {here: file}})
	if err != nil || os.WriteFile(file, m.source, 0o600) != nil || os.WriteFile(overlay, list, 0o600) != nil {
		return survived
	}
	binary := filepath.Join(work, "tests")
	if err := exec.Command("go", "test", "-c", "-vet=off", "-overlay", overlay, "-o", binary,
		"./"+pkg).Run(); err != nil {
		return broken
	}
	cmd := exec.Command(binary, "-test.failfast", "-test.short", "-test.timeout=60s")
	cmd.Dir = pkg
	if cmd.Run() != nil { // an endless loop ends at the limit
		return killed
	}
	return survived
}
