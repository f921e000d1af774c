package judge_test

import (
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/judge"
)

// areas are those of the design; a code is area.what.
var codeForm = regexp.MustCompile(`^(file|key|pair|request|chain|trust|name|time|algo|proto|suite|group|revoke|deploy|config|http|dns|reach)\.[a-z0-9]+(-[a-z0-9]+)*$`)

func TestCatalogueIsComplete(t *testing.T) {
	seen := map[string]bool{}
	for _, e := range judge.Catalogue() {
		assert.Regexp(t, codeForm, e.Code)
		assert.False(t, seen[e.Code], "%s is there twice", e.Code)
		seen[e.Code] = true
		require.NotEmpty(t, e.Severities, e.Code)
		for _, s := range e.Severities {
			assert.Contains(t, judge.Severities, s, e.Code)
		}
		for field, text := range map[string]string{"title": e.Title, "when": e.When, "why": e.Why, "remedy": e.Remedy,
			"reference": e.Reference} {
			assert.NotEmpty(t, text, "%s: %s", e.Code, field)
		}
		// no standard speaks of our defects and of limits of connections
		ours := slices.Contains([]string{"reach.examination-failed", "reach.cut-short"}, e.Code) ||
			strings.HasPrefix(e.Code, "config.") // where the server's manual counts
		assert.True(t, strings.HasPrefix(e.Reference, "RFC ") || ours, e.Code)
		assert.False(t, strings.HasSuffix(e.Title, "."), e.Code)
		for _, edit := range e.Edits {
			assert.Contains(t, judge.Servers, edit.Server, e.Code)
			assert.NotEmpty(t, edit.Text(), "%s, %s", e.Code, edit.Server)
		}
	}
}

func TestExplain(t *testing.T) {
	e, err := judge.Explain("Chain.Incomplete")
	require.NoError(t, err)
	assert.Equal(t, "chain.incomplete", e.Code)
	_, err = judge.Explain("chain.wrongorder")
	assert.ErrorContains(t, err, "chain.wrong-order", "codes of the area are named")
	_, err = judge.Explain("expired")
	assert.ErrorContains(t, err, "time.expired", "and those of the ending")
	_, err = judge.Explain("weather")
	assert.ErrorContains(t, err, "lists them all")
}

func TestSeverities(t *testing.T) {
	assert.True(t, judge.Fault.AtLeast(judge.Risk))
	assert.True(t, judge.Risk.AtLeast(judge.Risk))
	assert.False(t, judge.Note.AtLeast(judge.Risk))
	assert.False(t, judge.None.AtLeast(judge.Note))
}
