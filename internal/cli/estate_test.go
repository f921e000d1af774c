package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWorst(t *testing.T) {
	for name, tt := range map[string]struct {
		codes []string
		want  string
	}{
		"none":              {nil, ""},
		"all that there is": {[]string{"a", "b", "c", "d"}, "a, b, c, d"},
		"too many":          {[]string{"a", "b", "c", "d", "e"}, "a, b, c and 2 more"},
	} {
		t.Run(name, func(t *testing.T) { assert.Equal(t, tt.want, worst(tt.codes)) })
	}
}
