package policy_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/policy"
)

func TestEveryBuiltinIsComplete(t *testing.T) {
	require.Contains(t, policy.Names(), policy.Default)
	for _, name := range policy.Names() {
		p, err := policy.Builtin(name)
		require.NoError(t, err, name)
		assert.Equal(t, name, p.Name)
		assert.NotEmpty(t, p.About)
		assert.NotEmpty(t, p.Protocols.Current)
		assert.Greater(t, p.Keys.ModulusRisk, p.Keys.ModulusFault)
		w := p.Time.Windows()
		assert.Equal(t, 14*24*time.Hour, w.SoonAtMost)
		assert.InDelta(t, 1.0/3, w.RenewalFraction, 0.001)
		assert.Greater(t, w.RenewalFraction, w.SoonFraction)
	}
	_, err := policy.Builtin("open-sea")
	assert.ErrorContains(t, err, "open-web", "the error says which there are")
}
