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
		"all that there is": {[]string{"proto.none-current", "proto.obsolete"}, "proto.none-current, proto.obsolete"},
		"too many": {[]string{"group.weak-parameters", "suite.weak-cipher", "suite.weak-first",
			"proto.heartbeat"}, "group.weak-parameters, suite.weak-cipher and 2 more"},
		"one is shown": {[]string{"proto.no-extended-master-secret-and-more-of-it", "x.y"},
			"proto.no-extended-master-secret-and-more-of-it and 1 more"},
	} {
		t.Run(name, func(t *testing.T) { assert.Equal(t, tt.want, worst(tt.codes)) })
	}
}
