package words

import (
	"go/ast"
	"go/parser"
	"go/token"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
)

// declared are the codes that the source of package facts declares.
func declared(t *testing.T) map[facts.Code]bool {
	file, err := parser.ParseFile(token.NewFileSet(), "../facts/reason.go", nil, 0)
	require.NoError(t, err)
	out := map[facts.Code]bool{}
	ast.Inspect(file, func(n ast.Node) bool {
		spec, ok := n.(*ast.ValueSpec)
		if !ok {
			return true
		}
		if kind, ok := spec.Type.(*ast.Ident); ok && kind.Name == "Code" {
			value, err := strconv.Unquote(spec.Values[0].(*ast.BasicLit).Value)
			require.NoError(t, err)
			out[facts.Code(value)] = true
		}
		return true
	})
	return out
}

func TestEveryCodeHasWords(t *testing.T) {
	codes := declared(t)
	require.Greater(t, len(codes), 80)
	for code := range codes {
		_, modifies := modifiers[code]
		format, known := reasons[code]
		assert.True(t, known || modifies, "%s has no words", code)
		assert.LessOrEqual(t, strings.Count(format, "%"), 8, code)
	}
	for code := range reasons {
		assert.True(t, codes[code], "%s is no code of the facts", code)
	}
}

func TestOf(t *testing.T) {
	tests := []struct {
		name   string
		reason facts.Reason
		want   string
	}{
		{"none", facts.Reason{}, ""},
		{"with an argument", facts.Because(facts.NoAddress, "tides.tarnholm.example"),
			"tides.tarnholm.example has no address"},
		{"an argument is missing, as of another version", facts.Because(facts.NoAddress),
			" has no address"},
		{"of a later version", facts.Because("tide-turned", "at", "noon"), "tide-turned at noon"},
		{"a purpose that is modified", facts.Because(facts.ForVersions, "TLS 1.2", facts.Again),
			"offer of TLS 1.2 and older, once more"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) { assert.Equal(t, tt.want, Of(tt.reason)) })
	}
}
