package estatefile_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/limits"
	"nurvik/core/trust"
	"nurvik/internal/estatefile"
	"nurvik/internal/harbour"
)

const sample = `name: Tarnholm
stores:
  inner: {kind: private, path: inner.pem}
resolver: {address: 192.0.2.53, validates: true}
limits: {host-connections-per-second: 3, visit: 90s}
defaults:
  trust: [inner]
  owner: web crew
  labels: {quay: north, crew: day}
endpoints:
  - endpoint: Tides.Tarnholm.example
    names: [tides.tarnholm.example, tarnholm.example]
    visit-at: ["127.0.0.1:8443"]
  - endpoint: imaps://post.tarnholm.example
    trust: [system]
    audiences: [inner]
    labels: {quay: south}
    authenticated: true
    vantages: [harbour, outside]
    owner: post crew
    notes: |
      Renewed by hand.
      Ask the tide clerk.
`

func TestParse(t *testing.T) {
	e, err := estatefile.Parse("estate.yaml", []byte(sample))
	require.NoError(t, err)
	require.Len(t, e.Endpoints, 2)
	first, second := e.Settled(e.Endpoints[0]), e.Settled(e.Endpoints[1])
	assert.Equal(t, "tides.tarnholm.example:443", first.Endpoint)
	assert.Equal(t, []string{"inner"}, first.Trust)
	assert.Equal(t, map[string]string{"quay": "north", "crew": "day"}, first.Labels)
	assert.Equal(t, "post.tarnholm.example:993", second.Endpoint)
	assert.Equal(t, []string{"system"}, second.Trust, "what the entry says comes before the default")
	assert.Equal(t, map[string]string{"quay": "south", "crew": "day"}, second.Labels)
	assert.Equal(t, []string{"harbour", "outside"}, second.Vantages)
	assert.Equal(t, []string{"web crew", "post crew"}, []string{first.Owner, second.Owner})
	assert.Equal(t, "Renewed by hand.\nAsk the tide clerk.\n", second.Notes)
	assert.Equal(t, []bool{false, true}, []bool{first.Authenticated, second.Authenticated})
	assert.Equal(t, limits.Limits{HostPerSecond: 3, Visit: 90 * time.Second}, e.Limits)
	assert.Equal(t, &estatefile.Resolver{Address: "192.0.2.53", Validates: true}, e.Resolver)
}

func TestParseSaysWhereAndWhat(t *testing.T) {
	tests := []struct{ name, text, want string }{
		{"misspelt key", "endpoints:\n  - endpoit: a.example\n",
			`estate.yaml:2: the key "endpoit" is not known; "endpoint" may be meant`},
		{"no vantage", "endpoints:\n  - endpoint: a.example\n    vantages: [Out Side]\n",
			`estate.yaml:2: "Out Side" is no name of a vantage`},
		{"notes that hide", "endpoints:\n  - endpoint: a.example\n    notes: \"a\\u202eb\"\n", "cannot be kept"},
		{"long notes", "endpoints:\n  - endpoint: a.example\n    notes: " + strings.Repeat("x", 4001) + "\n",
			"longer than 4000 characters"},
		{"an owner with a space too many", "endpoints:\n  - endpoint: a.example\n    owner: 'web crew '\n",
			"begins or ends with a space"},
		{"a long owner", "endpoints:\n  - endpoint: a.example\n    owner: " + strings.Repeat("x", 201) + "\n",
			"longer than 200 characters"},
		{"a vantage twice", "endpoints:\n  - endpoint: a.example\n    vantages: [out, out]\n",
			`"out" is named twice`},
		{"no endpoint", "endpoints:\n  - endpoint: a b\n", "estate.yaml:2:"},
		{"listed twice", "endpoints:\n  - endpoint: a.example\n  - endpoint: A.example:443\n",
			"estate.yaml:3: a.example:443 is listed twice, first in line 2"},
		{"bad address", "endpoints:\n  - endpoint: a.example\n    visit-at: [b.example]\n",
			"estate.yaml:2: \"b.example\" is no address"},
		{"bad name", "endpoints:\n  - endpoint: a.example\n    names: ['*.example']\n",
			"neither a host name nor an address"},
		{"store without contents", "stores: {inner: {kind: private}}\nendpoints: []\n", "needs either a path or pem"},
		{"unknown kind", "stores: {inner: {kind: secret, path: a}}\nendpoints: []\n", "public, private and rehearsal"},
		{"a limit below nothing", "limits: {connection-bytes: -1}\nendpoints: []\n",
			"the limit connection-bytes must be positive"},
		{"a limit that is not known", "limits: {connection-byte: 1}\nendpoints: []\n",
			"\"connection-bytes\" may be meant"},
		{"a scheme that is not known", "endpoints:\n  - endpoint: gopher://post.example\n", "is not known"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			_, err := estatefile.Parse("estate.yaml", []byte(tt.text))
			assert.ErrorContains(t, err, tt.want)
		})
	}
	t.Run("all defects at once", func(t *testing.T) {
		_, err := estatefile.Parse("estate.yaml", []byte("endpoints:\n  - endpoint: a b\n  - endpoint: c d\n"))
		assert.ErrorContains(t, err, "estate.yaml:2:")
		assert.ErrorContains(t, err, "estate.yaml:3:")
	})
}

func TestLooks(t *testing.T) {
	for name, tt := range map[string]struct {
		text string
		want bool
	}{
		"an estate":              {sample, true},
		"a broken estate":        {"name: [\nendpoints:\n", true},
		"another YAML document":  {"servers: [a]\n", false},
		"a certificate":          {"-----BEGIN CERTIFICATE-----\nMII\n-----END CERTIFICATE-----\n", false},
		"a list":                 {"- endpoints\n", false},
		"nothing":                {"", false},
		"bytes that are no text": {"\x30\x82\x01\x00", false},
	} {
		assert.Equal(t, tt.want, estatefile.Looks([]byte(tt.text)), name)
	}
}

// TestRoundTrip sends the harbour's estate through the service's form and back.
func TestRoundTrip(t *testing.T) {
	directory := t.TempDir()
	h, err := harbour.Start(harbour.Options{Directory: directory, Now: time.Now()})
	require.NoError(t, err)
	h.Close()
	e, err := estatefile.Read(h.EstateFile)
	require.NoError(t, err)
	sent, err := e.ForService()
	require.NoError(t, err)
	assert.Len(t, sent.Endpoints, h.Endpoints)
	assert.Len(t, sent.Stores, 6)

	back, err := estatefile.FromService(sent)
	require.NoError(t, err)
	text, err := back.Write()
	require.NoError(t, err)
	path := filepath.Join(directory, "exported.yaml")
	require.NoError(t, os.WriteFile(path, text, 0o600))
	again, err := estatefile.Read(path)
	require.NoError(t, err)
	twice, err := again.ForService()
	require.NoError(t, err)
	assert.Equal(t, sent, twice)
	stores, err := again.LoadStores()
	require.NoError(t, err)
	assert.Equal(t, trust.Rehearsal, stores["rehearsal"].Anchors[0].Kind)
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(sample))
	f.Add([]byte("endpoints: [{endpoint: a}, {endpoint: a}]"))
	f.Fuzz(func(t *testing.T, data []byte) {
		e, err := estatefile.Parse("estate.yaml", data)
		if err != nil {
			assert.Contains(t, err.Error(), "estate.yaml")
			return
		}
		_, err = e.Write()
		require.NoError(t, err)
	})
}

// TestPolicies: an estate file carries policies, which its endpoints name.
func TestPolicies(t *testing.T) {
	const estate = "policies:\n  harbour: {path: harbour.yaml}\ndefaults: {policy: harbour}\nendpoints:\n" +
		"  - endpoint: a.example\n  - {endpoint: b.example, policy: strict}\n"
	tests := []struct{ name, estate, policy, want string }{
		{"taken in", estate, "name: harbour\ninherits: open-web\n", ""},
		{"with an error in it", estate, "name: harbour\ninherit: open-web\n",
			`harbour.yaml:2: the key "inherit" is not known; "inherits" may be meant`},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			directory := t.TempDir()
			path := filepath.Join(directory, "estate.yaml")
			require.NoError(t, os.WriteFile(path, []byte(tt.estate), 0o600))
			require.NoError(t, os.WriteFile(filepath.Join(directory, "harbour.yaml"), []byte(tt.policy), 0o600))
			e, err := estatefile.Read(path)
			if err == nil {
				_, err = e.LoadPolicies()
			}
			if tt.want != "" {
				require.ErrorContains(t, err, tt.want)
				return
			}
			require.NoError(t, err)
			sent, err := e.ForService()
			require.NoError(t, err)
			require.Len(t, sent.Policies, 1)
			assert.Equal(t, tt.policy, sent.Policies[0].Text)
			assert.Equal(t, "harbour", sent.Endpoints[0].Policy)
			assert.Equal(t, "strict", sent.Endpoints[1].Policy)
		})
	}
}
