package vantage_test

import (
	"net"
	"net/http"
	"net/netip"
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/limits"
	"nurvik/core/probe"
	"nurvik/internal/vantage"
)

const token = "kCJLwpkVAUeF6tG9Bz_tD6CrxhPMmrcdQPD2t-MtoVA"

const renewalZone = `
tides.tarnholm.example. 5 IN A 127.0.0.1
tides.tarnholm.example. 5 IN AAAA ::1
_acme-challenge.tides.tarnholm.example. 5 IN TXT "` + token + `"
_acme-challenge.tides.tarnholm.example. 5 IN TXT "v=spf1 -all"
tarnholm.example. 5 IN CAA 0 issue "outer.tarnholm.example"
away.tarnholm.example. 5 IN A 192.0.2.9
_acme-challenge.away.tarnholm.example. 5 IN CNAME away.validation.tarnholm.example.
_acme-challenge.sunk.tarnholm.example. 5 IN CNAME sunk.sunken.example.
_acme-challenge.steps.tarnholm.example. 5 IN CNAME one.validation.tarnholm.example.
one.validation.tarnholm.example. 5 IN CNAME two.validation.tarnholm.example.
two.validation.tarnholm.example. 5 IN TXT "` + token + `"
_acme-challenge.lame.tarnholm.example. 5 IN CNAME broken.validation.tarnholm.example.
_acme-challenge.circle.tarnholm.example. 5 IN CNAME circle.validation.tarnholm.example.
circle.validation.tarnholm.example. 5 IN CNAME _acme-challenge.circle.tarnholm.example.
`

func TestRenewals(t *testing.T) {
	server := nameServer(t, renewalZone)
	page, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	web := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		assert.Contains(t, []string{"tides.tarnholm.example", "127.0.0.1"}, r.Host)
		http.Redirect(w, r, "https://"+r.Host+r.URL.Path, http.StatusMovedPermanently)
	})}
	go func() { _ = web.Serve(page) }()
	defer web.Close()
	here := netip.MustParseAddrPort(page.Addr().String())
	network, err := vantage.Network(vantage.NameServer{Address: server})
	require.NoError(t, err)
	renewals, err := vantage.NewRenewals(vantage.NameServer{Address: server}, []string{server},
		probe.New(network, limits.Limits{}))
	require.NoError(t, err)
	look := func(name string) facts.RenewalName {
		return renewals.Look(t.Context(), []string{name}, []netip.Addr{here.Addr()}, here.Port()).Names[0]
	}

	tides := look("tides.tarnholm.example")
	lookup := facts.Lookup{Server: server, Addresses: []string{"127.0.0.1", "::1"}}
	assert.Equal(t, []facts.Lookup{lookup, lookup}, tides.Lookups, "each name server is asked")
	assert.Equal(t, "tarnholm.example", tides.CAAAt)
	assert.Equal(t, []string{token}, tides.Challenge.Tokens, "other TXT records are no answers to challenges")
	assert.Equal(t, []facts.Plain{{Address: here.String(), Status: 301,
		Location: "https://tides.tarnholm.example" + vantage.ChallengePath}}, tides.Pages)

	wild := look("*.tides.tarnholm.example")
	assert.Empty(t, wild.Lookups, "only DNS validation proves a wildcard")
	assert.Empty(t, wild.Pages)
	assert.Equal(t, []string{token}, wild.Challenge.Tokens)
	assert.Empty(t, look("away.tarnholm.example").Pages, "other machines are not asked")
	assert.Equal(t, []string{here.String()}, addressesOf(look("127.0.0.1").Pages), "an address leads to itself")
	assert.NotEmpty(t, look("two words").Failures)
	broken := look("broken.tarnholm.example")
	assert.Nil(t, broken.Challenge, "a name server with trouble of its own says nothing of challenges")
	assert.Len(t, broken.Failures, 2, "%v", broken.Failures)

	for name, want := range map[string]facts.Challenge{
		"away": {LeadsTo: []string{"away.validation.tarnholm.example"}},
		"sunk": {LeadsTo: []string{"sunk.sunken.example"},
			Nowhere: facts.Because(facts.NoSuchDomain, "sunk.sunken.example", "sunken.example")},
		"steps": {LeadsTo: []string{"one.validation.tarnholm.example", "two.validation.tarnholm.example"},
			Tokens: []string{token}},
		"none": {},
		"lame": {LeadsTo: []string{"broken.validation.tarnholm.example"},
			Nowhere: facts.Because(facts.ServerSilent, "broken.validation.tarnholm.example", "SERVFAIL")},
		"circle": {LeadsTo: []string{"circle.validation.tarnholm.example", "_acme-challenge.circle.tarnholm.example"},
			Nowhere: facts.Because(facts.EndlessAliases, "_acme-challenge.circle.tarnholm.example")},
	} {
		want.Name = "_acme-challenge." + name + ".tarnholm.example"
		assert.Equal(t, &want, look(name+".tarnholm.example").Challenge, name)
	}
}

func addressesOf(pages []facts.Plain) (out []string) {
	for _, p := range pages {
		out = append(out, p.Address)
	}
	return out
}

// above is the start of authority of a domain that exists above the name.
func above(name string) dns.RR {
	zone := "example."
	if dns.IsSubDomain("tarnholm.example.", name) {
		zone = "tarnholm.example."
	}
	return &dns.SOA{Hdr: dns.RR_Header{Name: zone, Rrtype: dns.TypeSOA, Class: dns.ClassINET, Ttl: 5},
		Ns: "ns.tarnholm.example.", Mbox: "hostmaster.tarnholm.example."}
}
