package judge_test

import (
	"regexp"
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
		for field, text := range map[string]string{"title": e.Title, "when": e.When, "why": e.Why, "remedy": e.Remedy, "reference": e.Reference} {
			assert.NotEmpty(t, text, "%s: %s", e.Code, field)
		}
		assert.True(t, strings.HasPrefix(e.Reference, "RFC "), e.Code)
		assert.False(t, strings.HasSuffix(e.Title, "."), e.Code)
		assert.Len(t, e.Lines(judge.Servers), len(e.Settings), "%s: a server that nobody knows", e.Code)
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

func TestLinesForServers(t *testing.T) {
	tests := []struct {
		code, target string
		want         []string
	}{
		{"proto.obsolete", "tides.tarnholm.example:443", []string{"nginx", "Apache", "HAProxy"}},
		{"proto.obsolete", "smtp://post.tarnholm.example", []string{"Postfix"}},
		{"proto.obsolete", "imaps://post.tarnholm.example", []string{"Dovecot"}},
		{"suite.weak-cipher", "crew.tarnholm.example:389", []string{"slapd"}},
		{"suite.weak-cipher", "gazette.tarnholm.example:119", nil},
		{"proto.heartbeat", "tides.tarnholm.example:443", nil},
		{"http.no-redirect", "postgres://log.tarnholm.example", nil},
	}
	for _, tt := range tests {
		var got []string
		for _, s := range judge.SettingsFor(tt.code, tt.target) {
			assert.NotEmpty(t, s.Line)
			got = append(got, s.Server)
		}
		assert.Equal(t, tt.want, got, "%s at %s", tt.code, tt.target)
	}
}

func TestSeverities(t *testing.T) {
	assert.True(t, judge.Fault.AtLeast(judge.Risk))
	assert.True(t, judge.Risk.AtLeast(judge.Risk))
	assert.False(t, judge.Note.AtLeast(judge.Risk))
	assert.False(t, judge.None.AtLeast(judge.Note))
}
