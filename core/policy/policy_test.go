package policy_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/lifetime"
	"nurvik/core/limits"
	"nurvik/core/policy"
	"nurvik/core/tlswire"
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
		assert.Equal(t, 14*lifetime.Day, w.SoonAtMost)
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
protocols: {required: [TLS 1.3], allowed: [TLS 1.3, TLS 1.2]}
suites: {allowed: ["TLS_AES_*", "TLS_ECDHE_*_GCM_*"], fault: ["*_CBC_*"]}
groups: {allowed: [x25519, X25519MLKEM768]}
keys: {allowed: [P-256, RSA]}
names: {required: [www.tarnholm.example]}
lifetimes: {most-days: 100}
limits: {host-connections-per-second: 3, visit: 90s}
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
	assert.Equal(t, strict.Protocols.Obsolete, p.Protocols.Obsolete, "within a part too")
	assert.Equal(t, strict.Groups.ModulusRisk, p.Groups.ModulusRisk)
	assert.Equal(t, limits.Limits{HostPerSecond: 3, Visit: 90 * time.Second}, p.Limits)
	for suite, want := range map[string]string{"TLS_AES_128_GCM_SHA256": "",
		"TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256": "", "TLS_CHACHA20_POLY1305_SHA256": "risk",
		"TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA": "fault", "TLS_RSA_WITH_RC4_128_SHA": "risk"} {
		assert.Equal(t, want, p.Suites.Severity(suite), suite)
	}
	assert.Equal(t, "risk", p.Groups.Severity("secp256r1"))
	assert.True(t, p.Keys.Allows("EC", "P-256"))
	assert.True(t, p.Keys.Allows("RSA", ""))
	assert.False(t, p.Keys.Allows("EC", "P-384"))
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
	assert.NotNil(t, p.Waived("time.expired", "cranes.tarnholm.example:443", day("2027-03-31T23:59:59Z")),
		"the last day counts")
	assert.Nil(t, p.Waived("time.expired", "cranes.tarnholm.example:443", day("2027-04-01T00:00:00Z")))
	assert.Nil(t, p.Waived("time.expired", "berths.tarnholm.example:443", day("2027-01-01T00:00:00Z")))
	assert.Nil(t, p.Waived("time.expires-soon", "cranes.tarnholm.example:443", day("2027-01-01T00:00:00Z")))

	tests := []struct{ name, text, want string }{
		{"misspelt key", "name: x\ninherits: open-web\nseverites: {}\n", "x.yaml:3: "},
		{"with a suggestion", "name: x\ninherits: open-web\nseverites: {}\n", "severities"},
		{"unknown parent", "name: x\ninherits: open-sea\n", "there is no policy"},
		{"wrong severity", "name: x\ninherits: open-web\nseverities: {proto.obsolete: severe}\n",
			`proto.obsolete is "severe"`},
		{"waiver without an end", "name: x\ninherits: open-web\nwaivers: [{code: time.expired, reason: y}]\n",
			"waiver 1 needs"},
		{"nothing inherited", "name: x\n", "write inherits: open-web"},
		{"without a name", "inherits: open-web\n", "has no name"},
		{"empty", "", "is empty"},
		{"unknown version, with its line", "name: x\ninherits: open-web\nprotocols:\n  allowed: [TLS 1.4]\n",
			`x.yaml:4: protocols.allowed: "TLS 1.4" is no version`},
		{"a version that cannot be required", "name: x\ninherits: open-web\nprotocols: {required: [SSL 3.0]}\n",
			"x.yaml:3: protocols.required"},
		{"unknown suite", "name: x\ninherits: open-web\nsuites: {risk: [\"*_ROT13_*\"]}\n",
			`x.yaml:3: suites: no cipher suite has a name like "*_ROT13_*"`},
		{"unknown group", "name: x\ninherits: open-web\ngroups: {allowed: [curve25519]}\n",
			`no group has a name like "curve25519"`},
		{"a name that is none", "name: x\ninherits: open-web\nnames: {required: [a..b]}\n", "x.yaml:3: names.required"},
		{"a lifetime without a date", "name: x\ninherits: open-web\nlifetimes: {public: [{from: soon, days: 9}]}\n",
			"lifetimes.public"},
		{"a limit below nothing", "name: x\ninherits: open-web\nlimits: {visit: -3s}\n",
			"x.yaml:3: limits: the limit visit"},
		{"a limit that is no time", "name: x\ninherits: open-web\nlimits: {visit: soon}\n", "x.yaml:3: "},
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

// TestWeakSuitesAreListed: the lists of the default policy say what the ciphers' properties say.
func TestWeakSuitesAreListed(t *testing.T) {
	p, err := policy.Builtin(policy.Default)
	require.NoError(t, err)
	for _, s := range tlswire.Suites() {
		properties := s.Properties()
		want := ""
		switch {
		case properties.Cipher == "none" || properties.Export || properties.KeyExchange == "":
			continue // told by codes of their own
		case properties.Strength <= 56 && properties.Strength > 0:
			want = "fault"
		case strings.HasPrefix(properties.Cipher, "RC4"), properties.Cipher == "3DES-CBC":
			want = "risk"
		}
		assert.Equal(t, want, p.Suites.Severity(s.String()), s.String())
	}
}

func TestPublicLifetimes(t *testing.T) {
	p, err := policy.Builtin(policy.Default)
	require.NoError(t, err)
	for day, want := range map[string]int{"2017-01-01": 0, "2018-03-01": 825, "2020-08-31": 825, "2020-09-01": 398,
		"2026-03-14": 398, "2026-03-15": 200, "2027-03-15": 100, "2029-03-15": 47} {
		issued, err := time.Parse(time.DateOnly, day)
		require.NoError(t, err)
		assert.Equal(t, want, p.Lifetimes.PublicDays(issued), day)
	}
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
