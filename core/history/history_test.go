package history_test

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"net/netip"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/history"
)

var start = time.Date(2026, 10, 1, 0, 0, 0, 0, time.UTC)

func newKey(t *testing.T) crypto.Signer {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	return key
}

// visit is one of an address, which answered with these certificates in these versions.
func visit(address string, versions []string, chain ...[]byte) facts.Observation {
	o := facts.Observation{Address: netip.MustParseAddrPort(address), Outcome: facts.Answered, Effort: facts.Normal,
		Certificates: chain, Groups: &facts.Groups{}}
	for _, v := range versions {
		o.Versions = append(o.Versions, facts.Version{Name: v, Answer: facts.Accepted})
	}
	return o
}

func TestBetween(t *testing.T) {
	authority := func(name string) *forge.Authority {
		a, err := forge.NewAuthority(nil, newKey(t), forge.ECDSASHA256, forge.Template{Name: name, From: start,
			Until: start.AddDate(5, 0, 0)})
		require.NoError(t, err)
		return a
	}
	outer, second := authority("Outer Issuing"), authority("Second Issuing")
	key := newKey(t)
	leaf := func(by *forge.Authority, key crypto.Signer, months int, names ...string) []byte {
		spki, err := forge.PublicInfo(key)
		require.NoError(t, err)
		der, err := forge.Issue(by, nil, forge.Template{Name: names[0], Names: names, SPKI: spki, From: start,
			Until: start.AddDate(0, months, 0)})
		require.NoError(t, err)
		return der
	}
	const tides = "tides.tarnholm.example"
	first, renewed := leaf(outer, key, 2, tides), leaf(outer, key, 4, tides)
	other := leaf(second, newKey(t), 4, tides, "ebb.tarnholm.example")
	const a, b = "192.0.2.7:443", "192.0.2.8:443"
	both := []string{"TLS 1.3", "TLS 1.2"}
	of := func(visits ...facts.Observation) facts.Endpoint { return facts.Endpoint{Observations: visits} }
	silent := func(address string, outcome facts.Outcome) facts.Observation {
		return facts.Observation{Address: netip.MustParseAddrPort(address), Outcome: outcome}
	}
	cut := visit(a, both[:1], first, outer.DER)
	cut.Cut = facts.Because(facts.OwnDefect, "x")
	unvisited := of(visit(a, both, first, outer.DER))
	unvisited.Unvisited = []string{b}
	noRoute := of(visit(a, both, first, outer.DER))
	noRoute.NoRoute = []string{"192.0.2.8"}
	half := facts.Endpoint{Observations: []facts.Observation{silent(a, facts.Timeout)}, Unvisited: []string{b}}
	outside := visit(b, both, first, outer.DER)
	outside.Vantage = "outside"
	for name, tt := range map[string]struct {
		before, after facts.Endpoint
		want          []string
	}{
		"a vantage that is asked no more": {of(visit(a, both, first, outer.DER), outside),
			of(visit(a, both, first, outer.DER)), nil},
		"a vantage that was not asked before": {of(visit(a, both, first, outer.DER)),
			of(visit(a, both, first, outer.DER), outside), nil},
		"nothing": {of(visit(a, both, first, outer.DER)), of(visit(a, both, first, outer.DER)), nil},
		"renewed with the same key": {of(visit(a, both, first, outer.DER)), of(visit(a, both, renewed, outer.DER)),
			[]string{"Another certificate with the same key: until 2027-02-01 instead of 2026-12-01."}},
		"another issuer, and more names": {of(visit(a, both, first, outer.DER)), of(visit(a, both, other, second.DER)),
			[]string{"Another certificate with a new key: until 2027-02-01 instead of 2026-12-01.",
				"Issued by Second Issuing instead of Outer Issuing.", "Names added: ebb.tarnholm.example.",
				"The chain lacks: Outer Issuing.", "The chain also has: Second Issuing."}},
		"one address alone": {of(visit(a, both, first), visit(b, both, first)), of(visit(a, both, first), visit(b, both,
			renewed)),
			[]string{"Another certificate with the same key at 192.0.2.8:443: until 2027-02-01 instead of 2026-12-01.",
				"The addresses serve different certificates."}},
		"and the other, too": {of(visit(a, both, first), visit(b, both, renewed)),
			of(visit(a, both, renewed), visit(b, both, renewed)),
			[]string{"Another certificate with the same key at 192.0.2.7:443: until 2027-02-01 instead of 2026-12-01.",
				"All addresses serve the same certificate."}},
		"the intermediate is gone": {of(visit(a, both, first, outer.DER)), of(visit(a, both, first)),
			[]string{"The chain lacks: Outer Issuing."}},
		"a version is switched off": {of(visit(a, append(both, "TLS 1.0"), first)), of(visit(a, both, first)),
			[]string{"No longer accepted: TLS 1.0."}},
		"a visit that was cut short says nothing of versions": {of(visit(a, both, first, outer.DER)), of(cut), nil},
		"silence": {of(visit(a, both, first)), of(silent(a, facts.Timeout)),
			[]string{"It no longer answers: timeout."}},
		"no name": {of(visit(a, both, first)), facts.Endpoint{ResolveError: facts.Because(facts.OwnDefect, "x")},
			[]string{"It no longer answers: "}},
		"answers again": {of(silent(a, facts.Timeout)), of(visit(a, both, first)), []string{"It answers."}},
		"still silent":  {of(silent(a, facts.Timeout)), of(silent(a, facts.Reset)), nil},
		"one goes silent": {of(visit(a, both, first), visit(b, both, first)), of(visit(a, both, first), silent(b,
			facts.Reset)), []string{"192.0.2.8:443 no longer answers: reset."}},
		"one answers": {of(visit(a, both, first), silent(b, facts.Reset)), of(visit(a, both, first), visit(b,
			both, first)), []string{"192.0.2.8:443 answers again."}},
		"another address": {of(visit(a, both, first)), of(visit(b, both, first)),
			[]string{"Now also at 192.0.2.8:443.", "No longer at 192.0.2.7:443."}},
		"a route this time": {noRoute, of(visit(a, both, first, outer.DER), visit(b, both, first,
			outer.DER)), nil},
		"no route this time": {of(visit(a, both, first, outer.DER), visit(b, both, first, outer.DER)),
			noRoute, nil},
		"the other address was not asked": {of(visit(a, both, first)), half, nil},
		"nor before":                      {half, of(visit(a, both, first)), nil},
		"not visited": {of(visit(a, both, first, outer.DER), visit(b, both, first, outer.DER)),
			unvisited, nil},
		"visited this time": {unvisited, of(visit(a, both, first, outer.DER), visit(b, both, first,
			outer.DER)), nil},
	} {
		t.Run(name, func(t *testing.T) {
			got := history.Between(tt.before, tt.after)
			for i, text := range got { // a CA is told with its end and its digest
				got[i] = regexp.MustCompile(` \(until [^)]*\)`).ReplaceAllString(text, "")
			}
			if name == "no name" {
				require.Len(t, got, 1)
				assert.Contains(t, got[0], tt.want[0])
				return
			}
			assert.Equal(t, tt.want, got)
		})
	}
}
