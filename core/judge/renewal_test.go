package judge_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/judge"
)

// TestRenewal judges what was learnt for the next renewal of a certificate of two names at 192.0.2.7.
func TestRenewal(t *testing.T) {
	s := newScene(t)
	leaf := s.leaf(s.lower, func(w *forge.Template) { w.Names = []string{host, "www." + host} })
	here := facts.Lookup{Server: "192.0.2.53:53", Addresses: []string{"192.0.2.7"}}
	away := facts.Lookup{Server: "198.51.100.53:53", Addresses: []string{"198.51.100.7"}}
	name := func(change func(*facts.RenewalName)) *facts.Renewal {
		n := facts.RenewalName{Name: "www." + host, Lookups: []facts.Lookup{here}}
		change(&n)
		return &facts.Renewal{Names: []facts.RenewalName{{Name: host, Lookups: []facts.Lookup{here}}, n}}
	}
	page := func(p facts.Plain) *facts.Renewal {
		p.Address = "192.0.2.7:80"
		return name(func(n *facts.RenewalName) { n.Pages = []facts.Plain{p} })
	}
	challenge := func(c facts.Challenge) *facts.Renewal {
		c.Name = "_acme-challenge.www." + host
		return name(func(n *facts.RenewalName) { n.Challenge = &c })
	}
	const unreachable, redirected = "http.challenge-unreachable risk 192.0.2.7:80",
		"http.challenge-redirected risk 192.0.2.7:80"
	elsewhere := []string{"dns.points-elsewhere risk www." + host}
	tests := []struct {
		name string
		seen *facts.Renewal
		want []string
	}{
		{"nobody asked", nil, []string{}},
		{"all is well", page(facts.Plain{Status: 404}), []string{}},
		{"another address", name(func(n *facts.RenewalName) { n.Lookups = []facts.Lookup{away} }), elsewhere},
		{"another address, says one of two name servers",
			name(func(n *facts.RenewalName) { n.Lookups = []facts.Lookup{here, away} }), elsewhere},
		{"no address", name(func(n *facts.RenewalName) { n.Lookups = []facts.Lookup{{Server: "x"}} }), elsewhere},
		{"a lookup that failed says nothing", name(func(n *facts.RenewalName) {
			n.Lookups = []facts.Lookup{{Server: "x", Failure: facts.Because(facts.Failure, "x")}}
		}), []string{}},
		{"an address more", name(func(n *facts.RenewalName) {
			n.Lookups[0].Addresses = append([]string{"198.51.100.7"}, n.Lookups[0].Addresses...)
		}), []string{}},
		{"a redirect to HTTPS of the same name", page(facts.Plain{Status: 301,
			Location: "https://WWW." + host + "/x"}), []string{}},
		{"a redirect to a path", page(facts.Plain{Status: 302, Location: "/x"}), []string{}},
		{"a redirect to another name of the certificate", page(facts.Plain{Status: 301,
			Location: "https://" + host + "/"}),
			[]string{redirected}},
		{"a redirect to nowhere", page(facts.Plain{Status: 301}), []string{unreachable}},
		{"forbidden", page(facts.Plain{Status: 403}), []string{unreachable}},
		{"nothing answers", page(facts.Plain{Failure: facts.Because(facts.NothingAnswers)}), []string{unreachable}},
		{"not tried", page(facts.Plain{Failure: facts.Because(facts.NotTried)}), []string{}},
		{"an old answer", challenge(facts.Challenge{Tokens: []string{"x"}}),
			[]string{"dns.challenge-stale risk"}},
		{"a delegation to nowhere", challenge(facts.Challenge{LeadsTo: []string{"x.sunken.example"},
			Nowhere: facts.Because(facts.NoSuchDomain, "x.sunken.example", "sunken.example")}),
			[]string{"dns.challenge-dangling risk"}},
		{"a delegation, and a closed path that nobody needs", name(func(n *facts.RenewalName) {
			n.Challenge = &facts.Challenge{Name: "x", Own: true}
			n.Pages = []facts.Plain{{Address: "192.0.2.7:80", Status: 403}}
		}), []string{}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			e := observed(served("1.2,1.3", leaf, s.lower.DER, s.upper.DER))
			e.Renewal = tt.seen
			assert.Equal(t, tt.want, codes(judge.Endpoint(e, s.context())))
		})
	}
	t.Run("one cause at one address is one finding", func(t *testing.T) {
		e := observed(served("1.2,1.3", leaf, s.lower.DER, s.upper.DER))
		e.Renewal = page(facts.Plain{Status: 403})
		e.Renewal.Names[0].Pages = e.Renewal.Names[1].Pages
		e.Renewal.Names[0].Lookups, e.Renewal.Names[1].Lookups = nil, nil
		j := judge.Endpoint(e, s.context())
		assert.Equal(t, []string{unreachable}, codes(j))
		assert.Contains(t, j.Findings[0].Message, host+", www."+host+" at the next renewal (due ")
	})
}

// TestIssuerAuthorized: with the name by which the issuer goes, every name of a renewal is held to its CAA records.
func TestIssuerAuthorized(t *testing.T) {
	s := newScene(t)
	issuer := s.parse(s.lower.DER).Subject.CommonName()
	own := map[string][]string{issuer: {"outer.tarnholm.example", "Outer.example"}}
	only := func(tag, value string) []facts.CAA { return []facts.CAA{{Tag: tag, Value: value}} }
	forbids := []string{"dns.caa-forbids risk tarnholm.example"}
	tests := []struct {
		name, of string
		known    map[string][]string
		caa      []facts.CAA
		want     []string
	}{
		{"its own name", host, own, only("issue", "OUTER.tarnholm.example; account=1"), []string{}},
		{"its second name", host, own, only("issue", "outer.example"), []string{}},
		{"another", host, own, only("issue", "inner.tarnholm.example"), forbids},
		{"another, and nobody knows its own", host, nil, only("issue", "inner.tarnholm.example"), []string{}},
		{"another, for wildcards alone", host, own, only("issuewild", "inner.tarnholm.example"), []string{}},
		{"another, for a wildcard", "*.tarnholm.example", own, only("issuewild", "inner.tarnholm.example"), forbids},
		{"a critical property that nobody knows", host, own,
			[]facts.CAA{{Tag: "issue", Value: "outer.example"}, {Critical: true, Tag: "tide"}}, forbids},
		{"a property that nobody knows", host, own, []facts.CAA{{Tag: "issue", Value: "outer.example"}, {Tag: "tide"}},
			[]string{}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			e := observed(served("1.2,1.3", s.leaf(s.lower, nil), s.lower.DER, s.upper.DER))
			e.Renewal = &facts.Renewal{Names: []facts.RenewalName{{Name: tt.of, CAA: tt.caa,
				CAAAt: "tarnholm.example"}}}
			context := s.context()
			context.Issuers = tt.known
			got := codes(judge.Endpoint(e, context))
			assert.Equal(t, tt.want, slices.DeleteFunc(got, func(c string) bool { return c[:3] != "dns" }))
		})
	}
}
