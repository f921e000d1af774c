package acceptance

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/report"
)

// chainCall calls "nurvik chain" so that the harbour's issuers can be asked.
func chainCall(t *testing.T, arguments ...string) outcome {
	t.Helper()
	return call(t, "", "nurvik", append([]string{"chain", "--handshake-timeout", "5s", "--allow-network",
		fmt.Sprintf("127.0.0.0/8=%d", estate.Port)}, arguments...)...)
}

func anchors(name string) string {
	return filepath.Join(filepath.Dir(estate.EstateFile), "anchors", name+".pem")
}

// answer is the JSON of the call.
func answer(t *testing.T, o outcome) report.Chains {
	t.Helper()
	var out report.Chains
	require.NoError(t, json.Unmarshal([]byte(o.stdout), &out), o.stderr)
	return out
}

func TestChain(t *testing.T) {
	outer, inner, second := anchors("outer"), anchors("inner"), anchors("second")
	file := func(name string) string { return filepath.Join(estate.Files, name) }
	endpoint := func(name, address string, more ...string) []string {
		return append([]string{name + ".tarnholm.example", "--visit-at",
			fmt.Sprintf("127.30.%s:%d", address, estate.Port)}, more...)
	}
	tests := []struct {
		name   string
		call   []string
		status int
		stderr string
		stdout []string
	}{
		{"a good file", []string{file("tides-fullchain.pem"), "--trust", outer}, 0, "",
			[]string{"GIVEN", "▲  Skerry Outer Root", "the root, in the trust store", "✓"}},
		{"a good endpoint", endpoint("tides", "1.1", "--trust", outer), 0, "",
			[]string{"REVOCATION", "the CRL: good, until"}},
		{"out of order", []string{file("lighthouse-bundle.pem"), "--trust", outer}, 1, "",
			[]string{"out of order, belongs to place 3", "chain.wrong-order  fault"}},
		{"out of order, and nothing counts", []string{file("lighthouse-bundle.pem"), "--trust", outer, "--fail-from",
			"never"}, 0, "", []string{"chain.wrong-order"}},
		{"incomplete is a no, whatever counts", []string{file("tides.der"), "--trust", outer, "--fail-from", "never"},
			1, "", []string{`No issuer "Skerry Outer Issuing"`}},
		{"files together are one heap", []string{file("tides.der"), file("outer-authorities.pem"), "--trust", outer}, 0,
			"", []string{"tides.der and 1 more", "a root, need not be sent"}},
		{"one store is enough, every audience must", endpoint("fairlead", "3.11", "--trust", outer, "--trust", inner,
			"--audience", second), 0, "", []string{"one of these", "← Skerry Second Root"}},
		{"an audience that does not accept", endpoint("fairlead", "3.11", "--trust", outer, "--audience", inner), 1, "",
			[]string{"trust.audience-split", "no       No issuer"}},
		{"a name that is not covered", []string{file("tides-fullchain.pem"), "--trust", outer, "--name",
			"ebb.tarnholm.example", "--fail-from", "never"}, 1, "", []string{"name.uncovered"}},
		{"an older key of the issuer", endpoint("keel", "3.7", "--trust", outer), 1, "",
			[]string{"chain.wrong-sibling  fault", "not on the path"}},
		{"revoked", endpoint("wreck", "9.2", "--trust", outer), 1, "",
			[]string{"the CRL: revoked since", "revoke.revoked  fault"}},
		{"revoked, and nobody asked", endpoint("wreck", "9.2", "--trust", outer, "--no-revocation"), 0, "",
			[]string{"✓"}},
		{"fetched", endpoint("islet", "3.13", "--trust", outer, "--fetch"), 1, "",
			[]string{"+  Skerry Far Issuing", `Lacks "Skerry Far Issuing"`}},
		{"a network that is not allowed", []string{"chain-of-none.tarnholm.example", "--visit-at",
			fmt.Sprintf("127.30.9.6:%d", estate.Port), "--trust", outer, "--allow-network", "10.0.0"}, 2,
			"ADDRESS/BITS", nil},
		{"in half a year", []string{file("tides-fullchain.pem"), "--trust", outer, "--at", "+200d"}, 1, "",
			[]string{"expired on"}},
		{"what cannot be computed is no no", endpoint("sextant", "6.3", "--trust", anchors("sextant")), 3, "",
			[]string{"algo.unverifiable"}},
		{"more paths than anyone looks at", []string{file("maze.pem"), "--trust", outer}, 3, "",
			[]string{"was given up: after 2000 candidates"}},
		{"unreachable", endpoint("drydock", "8.1", "--trust", outer), 3, "", []string{"not examined"}},
		{"no certificate in it", []string{filepath.Join(estate.Hosts, "quay/etc/ssl/quay.key"), "--trust", outer}, 3,
			"", []string{"no certificate is in it"}},
		{"a store that is not there", []string{file("tides.der"), "--trust", "sky"}, 3, "neither a store nor a file",
			nil},
		{"distrust of what nobody knows", []string{file("tides-fullchain.pem"), "--trust", outer, "--distrust",
			strings.Repeat("ab", 32)}, 2, "has the SHA-256 abab", nil},
		{"distrust of what is no fingerprint", []string{file("tides-fullchain.pem"), "--distrust", "abc"}, 2,
			"64 hexadecimal digits", nil},
		{"force without write", []string{file("tides-fullchain.pem"), "--force"}, 2, "--force goes with --write", nil},
		{"nothing named", nil, 2, "requires at least 1 arg", nil},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			o := chainCall(t, tt.call...)
			assert.Equal(t, tt.status, o.status, o.stdout+o.stderr)
			assert.Contains(t, o.stderr, tt.stderr)
			for _, text := range tt.stdout {
				assert.Contains(t, o.stdout, text)
			}
		})
	}
}

func TestChainWritesTheRepairedBundle(t *testing.T) {
	outer, directory := anchors("outer"), t.TempDir()
	broken := filepath.Join(estate.Files, "lighthouse-bundle.pem")
	path := filepath.Join(directory, "repaired.pem")
	o := chainCall(t, broken, "--trust", outer, "--write", path, "-o", "json")
	assert.Equal(t, 1, o.status, "what was given is wrong all the same")
	assert.Contains(t, o.stderr, "Wrote 3 certificates")
	before := answer(t, o)
	written, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, strings.Join(before.Bundle, ""), string(written))

	after := answer(t, chainCall(t, path, "--trust", outer, "-o", "json"))
	assert.True(t, after.Trusted && after.Complete)
	assert.Empty(t, after.Findings)
	assert.Equal(t, []string{"lighthouse.tarnholm.example", "Skerry Outer Issuing", "Skerry Outer Services",
		"Skerry Outer Root"}, labelsOf(after.Right))

	require.NoError(t, os.WriteFile(path, []byte("mine"), 0o600))
	o = chainCall(t, broken, "--trust", outer, "--write", path)
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stderr, "add --force to replace it")
	kept, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "mine", string(kept))
	assert.Equal(t, 1, chainCall(t, broken, "--trust", outer, "--write", path, "--force").status)
	replaced, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, string(written), string(replaced))

	hopeless := filepath.Join(directory, "hopeless.pem")
	o = chainCall(t, filepath.Join(estate.Files, "tides.der"), "--trust", outer, "--write", hopeless)
	assert.Equal(t, 1, o.status)
	assert.Contains(t, o.stderr, "no complete and valid chain is known")
	assert.NoFileExists(t, hopeless)
	left, err := os.ReadDir(directory)
	require.NoError(t, err)
	assert.Len(t, left, 1, "nothing unfinished is left behind")
}

func labelsOf(links []report.ChainLink) []string {
	var out []string
	for _, l := range links {
		out = append(out, l.Label)
	}
	return out
}

func TestChainWhatIf(t *testing.T) {
	call := []string{"fairlead.tarnholm.example", "--visit-at", fmt.Sprintf("127.30.3.11:%d", estate.Port), "--trust",
		anchors("outer"), "--trust", anchors("second"), "-o", "json"}
	now := answer(t, chainCall(t, call...))
	require.Len(t, now.Right, 4)
	root := now.Right[3]
	assert.Equal(t, "Skerry Outer Root", root.Label)
	o := chainCall(t, append(call, "--distrust", strings.ToUpper(root.SHA256.String()))...)
	assert.Equal(t, 0, o.status, "the second root is left")
	without := answer(t, o)
	assert.Equal(t, "Skerry Second Root", without.Right[3].Label)
	trusted := map[string]bool{}
	for _, a := range without.Audiences {
		trusted[filepath.Base(a.Store)] = a.Trusted
	}
	assert.Equal(t, map[string]bool{"outer.pem": false, "second.pem": true}, trusted)
	assert.True(t, slices.ContainsFunc(without.Paths, func(p report.ChainPath) bool {
		return p.Valid && p.Ends != nil &&
			p.EndsWith != ""
	}))
}
