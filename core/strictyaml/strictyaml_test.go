package strictyaml_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/strictyaml"
)

type berth struct {
	Name  string            `yaml:"name"`
	Depth int               `yaml:"depth"`
	Tags  map[string]string `yaml:"tags"`
	Cargo []cargo           `yaml:"cargo"`
	Next  *berth            `yaml:"next"`
}

type cargo struct {
	Kind string `yaml:"kind"`
}

func TestDecode(t *testing.T) {
	var b berth
	require.NoError(t, strictyaml.Decode("b.yaml",
		[]byte("name: north\ndepth: 7\ntags: {any: thing}\ncargo:\n  - kind: salt\nnext: {name: south}\n"), &b))
	assert.Equal(t, berth{Name: "north", Depth: 7, Tags: map[string]string{"any": "thing"}, Cargo: []cargo{{"salt"}},
		Next: &berth{Name: "south"}}, b)
}

func TestDecodeSaysWhereAndWhat(t *testing.T) {
	tests := []struct{ name, text, want string }{
		{"misspelt", "name: a\ndepht: 7\n", `b.yaml:2: the key "depht" is not known; "depth" may be meant`},
		{"unknown", "weather: fine\n",
			`b.yaml:1: the key "weather" is not known; known here: cargo, depth, name, next, tags`},
		{"deep in a list", "cargo:\n  - kind: salt\n  - kinds: fish\n",
			`b.yaml:3: the key "kinds" is not known; "kind" may be meant`},
		{"behind a pointer", "next:\n  nam: a\n", `b.yaml:2: the key "nam" is not known`},
		{"two at once", "nme: a\ndeptj: 3\n", `b.yaml:2`},
		{"wrong kind of value", "name: a\ndepth: deep\n", "b.yaml:2:"},
		{"twice", "name: a\nname: b\n", "already defined"},
		{"an anchor that contains itself", "next: &x {name: a, next: *x}\n", "contains itself"},
		{"misspelt and mistyped: the misspelt key is told", "dept: 1\ndepth: deep\n", `"depth" may be meant`},
		{"aliases of aliases", bomb(8), "aliases add more than 100000 values"},
		{"text that steers terminals", "name: \"\\e]0;x\"\n", `b.yaml:1: the character \x1b`},
		{"NUL in a key", "name: a\ntags: {\"a\\0\": b}\n", `b.yaml:2: the character \x00`},
		{"broken", "name: [a\n", "b.yaml"},
		{"empty", "", "the document is empty"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			var b berth
			err := strictyaml.Decode("b.yaml", []byte(tt.text), &b)
			var wrong *strictyaml.Error
			require.ErrorAs(t, err, &wrong)
			assert.ErrorContains(t, err, tt.want)
		})
	}
}

// bomb is a document in which each line names the one before ten times.
func bomb(lines int) string {
	text := "name: a\nnext:\n  tags: &a0 {k: v}\n"
	for i := range lines {
		text += fmt.Sprintf("a%d: &a%d [%s]\n", i+1, i+1, strings.Repeat(fmt.Sprintf("*a%d,", i), 10))
	}
	return text
}

func FuzzDecode(f *testing.F) {
	f.Add([]byte("name: a\nnext: &x {name: b}\ncargo: [*x]\n"))
	f.Add([]byte("a: &a [*a]"))
	f.Add([]byte(bomb(3)))
	f.Fuzz(func(t *testing.T, data []byte) {
		var b berth
		if err := strictyaml.Decode("b.yaml", data, &b); err != nil {
			assert.Contains(t, err.Error(), "b.yaml")
		}
	})
}
