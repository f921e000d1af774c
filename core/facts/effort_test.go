package facts_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
)

func TestParseEffort(t *testing.T) {
	for text, want := range map[string]facts.Effort{"": "", "quick": facts.Quick, "normal": facts.Normal,
		"full": facts.Full} {
		got, err := facts.ParseEffort(text)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	_, err := facts.ParseEffort("Full")
	assert.EqualError(t, err, `an effort is quick, normal or full, not "Full"`)
}
