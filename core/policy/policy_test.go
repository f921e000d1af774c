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

func TestParse(t *testing.T) {
	good := `
name: harbour
about: Ours
inherits: strict
time: {soon-days: 21}
severities: {suite.*: note, suite.null: fault, group.no-hybrid: "off"}
waivers:
  - {code: time.expired, target: "cranes.tarnholm.example:443", reason: it goes in March, until: 2027-03-31}
`
	p, err := policy.Parse("harbour.yaml", []byte(good))
	require.NoError(t, err)
	strict, err := policy.Builtin("strict")
	require.NoError(t, err)
	assert.Equal(t, "harbour", p.Name)
	assert.Equal(t, 21, p.Time.SoonDays)
	assert.InDelta(t, strict.Time.SoonFraction, p.Time.SoonFraction, 0.0001, "what it does not say is inherited")
	assert.Equal(t, strict.Hashes, p.Hashes)
	assert.Equal(t, "fault", p.Severity("suite.null"), "a code counts before its area")
	assert.Equal(t, "note", p.Severity("suite.export"))
	assert.Equal(t, policy.Off, p.Severity("group.no-hybrid"))
	assert.Equal(t, "fault", p.Severity("proto.obsolete"), "severities are inherited too")
	assert.Empty(t, p.Severity("chain.incomplete"))

	day := func(text string) time.Time {
		at, err := time.Parse(time.RFC3339, text)
		require.NoError(t, err)
		return at
	}
	assert.NotNil(t, p.Waived("time.expired", "cranes.tarnholm.example:443", day("2027-03-31T23:59:59Z")), "the last day counts")
	assert.Nil(t, p.Waived("time.expired", "cranes.tarnholm.example:443", day("2027-04-01T00:00:00Z")))
	assert.Nil(t, p.Waived("time.expired", "berths.tarnholm.example:443", day("2027-01-01T00:00:00Z")))
	assert.Nil(t, p.Waived("time.expires-soon", "cranes.tarnholm.example:443", day("2027-01-01T00:00:00Z")))

	tests := []struct{ name, text, want string }{
		{"misspelt key", "name: x\ninherits: open-web\nseverites: {}\n", "x.yaml:3: "},
		{"with a suggestion", "name: x\ninherits: open-web\nseverites: {}\n", "severities"},
		{"unknown parent", "name: x\ninherits: open-sea\n", "there is no policy"},
		{"wrong severity", "name: x\ninherits: open-web\nseverities: {proto.obsolete: severe}\n", `proto.obsolete is "severe"`},
		{"waiver without an end", "name: x\ninherits: open-web\nwaivers: [{code: time.expired, reason: y}]\n", "waiver 1 needs"},
		{"nothing inherited", "name: x\n", "write inherits: open-web"},
		{"without a name", "inherits: open-web\n", "has no name"},
		{"empty", "", "is empty"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			_, err := policy.Parse("x.yaml", []byte(tt.text))
			assert.ErrorContains(t, err, tt.want)
		})
	}
	_, err = policy.Load("no-such-file.yaml")
	assert.ErrorContains(t, err, "built in are: internal, open-web, opportunistic, strict")
}

// FuzzParse: a policy that is accepted can be asked about anything.
func FuzzParse(f *testing.F) {
	f.Add([]byte("name: x\ninherits: open-web\nseverities: {suite.*: note}\n"))
	f.Add([]byte("name: x\nwaivers: [{code: a.b, reason: c, until: 2027-01-01}]\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		p, err := policy.Parse("x.yaml", data)
		if err != nil {
			return
		}
		assert.Contains(t, []string{"", "fault", "risk", "note", "off"}, p.Severity("suite.null"))
		_ = p.Waived("suite.null", "x", time.Unix(1.8e9, 0))
	})
}

func TestWhoChecksNobody(t *testing.T) {
	open, err := policy.Builtin(policy.Default)
	require.NoError(t, err)
	strict, err := policy.Builtin("strict")
	require.NoError(t, err)
	chosen := open
	chosen.Chosen = true
	tests := []struct {
		name   string
		asked  policy.Policy
		scheme string
		port   uint16
		want   string
	}{
		{"mail between servers", open, "smtp", 25, policy.Opportunistic},
		{"messages between servers, on any port", open, "xmpp-server", 5270, policy.Opportunistic},
		{"mail from clients", open, "submission", 587, policy.Default},
		{"mail on a port of its own", open, "smtp", 2525, policy.Default},
		{"the web", open, "https", 443, policy.Default},
		{"another policy", strict, "smtp", 25, "strict"},
		{"the default, asked for by name", chosen, "smtp", 25, policy.Default},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) { assert.Equal(t, tt.want, policy.For(tt.asked, tt.scheme, tt.port).Name) })
	}
}
