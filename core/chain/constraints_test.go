package chain

import (
	"context"
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"nurvik/core/pki"
)

func TestSubtrees(t *testing.T) {
	network := func(text string) pki.GeneralName {
		return pki.GeneralName{Kind: pki.NameIP, Network: netip.MustParsePrefix(text)}
	}
	address := func(text string) pki.GeneralName {
		return pki.GeneralName{Kind: pki.NameIP, Address: netip.MustParseAddr(text)}
	}
	of := func(kind pki.NameKind, value string) pki.GeneralName {
		return pki.GeneralName{Kind: kind, Value: value}
	}
	directory := func(values ...string) pki.GeneralName {
		g := pki.GeneralName{Kind: pki.NameDirectory}
		for _, v := range values {
			g.Directory.Components = append(g.Directory.Components, []pki.Attribute{{Type: "2.5.4.11", Value: v}})
		}
		return g
	}
	tests := []struct {
		name       string
		value      pki.GeneralName
		base       pki.GeneralName
		in, forbid bool // in a permitted subtree; in an excluded one
	}{
		{"the domain itself", of(pki.NameDNS, "tarnholm.example"), of(pki.NameDNS, "tarnholm.example"), true, true},
		{"below the domain", of(pki.NameDNS, "a.b.Tarnholm.example"), of(pki.NameDNS, "tarnholm.EXAMPLE"), true, true},
		{"only the same ending", of(pki.NameDNS, "notarnholm.example"), of(pki.NameDNS, "tarnholm.example"), false,
			false},
		{"a period in front means below", of(pki.NameDNS, "tarnholm.example"), of(pki.NameDNS, ".tarnholm.example"),
			false, false},
		{"no domain means all", of(pki.NameDNS, "tarnholm.example"), of(pki.NameDNS, ""), true, true},
		{"a mailbox", of(pki.NameEmail, "office@tarnholm.example"), of(pki.NameEmail, "office@Tarnholm.example"), true,
			true},
		{"another mailbox", of(pki.NameEmail, "Office@tarnholm.example"), of(pki.NameEmail, "office@tarnholm.example"),
			false, false},
		{"all mailboxes of a host", of(pki.NameEmail, "office@tarnholm.example"), of(pki.NameEmail, "tarnholm.example"),
			true, true},
		{"not those of hosts below", of(pki.NameEmail, "office@a.tarnholm.example"),
			of(pki.NameEmail, "tarnholm.example"), false, false},
		{"mailboxes below a domain", of(pki.NameEmail, "office@a.tarnholm.example"),
			of(pki.NameEmail, ".tarnholm.example"), true, true},
		{"no mailbox at all", of(pki.NameEmail, "office"), of(pki.NameEmail, "tarnholm.example"), false, true},
		{"nobody's mailbox", of(pki.NameEmail, "@tarnholm.example"), of(pki.NameEmail, "tarnholm.example"), true, true},
		{"nobody's mailbox by itself", of(pki.NameEmail, "@tarnholm.example"), of(pki.NameEmail, "@tarnholm.example"),
			true,
			true},
		{"the host of an address", of(pki.NameURI, "https://tarnholm.example:8443/x"),
			of(pki.NameURI, "tarnholm.example"), true, true},
		{"hosts below", of(pki.NameURI, "https://a.tarnholm.example/"), of(pki.NameURI, ".tarnholm.example"), true,
			true},
		{"an address without host", of(pki.NameURI, "urn:a:b"), of(pki.NameURI, "tarnholm.example"), false, true},
		{"a number for a host", of(pki.NameURI, "https://192.0.2.1/"), of(pki.NameURI, "tarnholm.example"), false,
			true},
		{"a network", address("192.0.2.77"), network("192.0.2.0/24"), true, true},
		{"another network", address("192.0.3.1"), network("192.0.2.0/24"), false, false},
		{"the other family", address("2001:db8::1"), network("192.0.2.0/24"), false, false},
		{"a directory name", directory("a", "B  c", "d"), directory("A", "b c"), true, true},
		{"a shorter directory name", directory("a"), directory("a", "b"), false, false},
		{"what nobody can compare", of(pki.NameX400, "00"), of(pki.NameX400, "00"), false, true},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			assert.Equal(t, tt.in, disallowed(tt.value,
				&pki.NameConstraints{Permitted: []pki.GeneralName{tt.base}}) == "", "permitted")
			assert.Equal(t, tt.forbid, disallowed(tt.value,
				&pki.NameConstraints{Excluded: []pki.GeneralName{tt.base}}) != "", "excluded")
		})
	}
	t.Run("constraints of another kind do not matter", func(t *testing.T) {
		assert.Empty(t, disallowed(of(pki.NameDNS, "a.example"),
			&pki.NameConstraints{Permitted: []pki.GeneralName{network("192.0.2.0/24")}}))
	})
	t.Run("excluded comes before permitted", func(t *testing.T) {
		name := of(pki.NameDNS, "a.tarnholm.example")
		assert.Equal(t, "excluded by", disallowed(name,
			&pki.NameConstraints{Permitted: []pki.GeneralName{of(pki.NameDNS, "tarnholm.example")},
				Excluded: []pki.GeneralName{name}}))
	})
}

// TestManyNamesAndConstraints: long lists are compared, and hostile ones end in an answer that says so.
func TestManyNamesAndConstraints(t *testing.T) {
	for name, tt := range map[string]struct {
		names, bases int
		last         string // of the constraints
		want         Reason
	}{
		"long, and nothing is excluded": {1000, 1000, "b.example", ""},
		"long, and the last excludes":   {1000, 1000, "a.example", NameNotAllowed},
		"too long":                      {20_000, 20_000, "b.example", NotComputed},
	} {
		leaf, authority := &pki.Certificate{}, &pki.Certificate{NameConstraints: &pki.NameConstraints{}}
		for range tt.names {
			leaf.AltNames = append(leaf.AltNames, pki.GeneralName{Kind: pki.NameDNS, Value: "a.example"})
		}
		for range tt.bases {
			authority.NameConstraints.Excluded = append(authority.NameConstraints.Excluded,
				pki.GeneralName{Kind: pki.NameDNS, Value: "b.example"})
		}
		authority.NameConstraints.Excluded[tt.bases-1].Value = tt.last
		s := search{verifier: &Verifier{}, query: Query{Budget: NewBudget(context.Background())}}
		failures := s.nameFailure([]*pki.Certificate{leaf, authority, {}})
		if tt.want == "" {
			assert.Empty(t, failures, name)
		} else if assert.Len(t, failures, 1, name) {
			assert.Equal(t, tt.want, failures[0].Reason, name)
		}
		assert.Equal(t, tt.want == NotComputed, s.over(), name)
	}
}

func TestPolicies(t *testing.T) {
	zero := 0
	with := func(policies ...pki.OID) *pki.Certificate {
		return &pki.Certificate{Policies: policies, HasPolicies: len(policies) > 0,
			Issuer: pki.Name{Raw: []byte{1}, Components: [][]pki.Attribute{{{Type: "2.5.4.3", Value: "other"}}}}}
	}
	requiring := with("1.1")
	requiring.PolicyConstraints.RequireExplicit = &zero
	mapping := with("1.1")
	mapping.PolicyMappings = []pki.PolicyMapping{{Issuer: "1.1", Subject: "2.2"}}
	mappingAny := with("1.1")
	mappingAny.PolicyMappings = []pki.PolicyMapping{{Issuer: "1.1", Subject: pki.AnyPolicy}}
	root := with()
	explicit := PolicyInputs{Explicit: true}
	demanding, later := with(), with()
	demanding.PolicyConstraints.RequireExplicit = &zero
	one, two := 1, 2
	later.PolicyConstraints.RequireExplicit = &one
	requiringSoon, requiringLate := with("1.1"), with("1.1")
	requiringSoon.PolicyConstraints.RequireExplicit, requiringLate.PolicyConstraints.RequireExplicit = &one, &two
	noMore := with("1.1")
	noMore.PolicyConstraints.InhibitMapping = &zero
	notAny := with("1.1")
	notAny.PolicyConstraints.InhibitAny = &zero
	tests := []struct {
		name  string
		in    PolicyInputs
		path  []*pki.Certificate // the leaf first
		valid bool
	}{
		{"nothing is demanded", PolicyInputs{}, []*pki.Certificate{with(), with(), root}, true},
		{"demanded, and there", explicit, []*pki.Certificate{with("1.1"), with("1.1"), root}, true},
		{"demanded, and another", explicit, []*pki.Certificate{with("1.2"), with("1.1"), root}, false},
		{"demanded, and none", explicit, []*pki.Certificate{with(), with("1.1"), root}, false},
		{"any of the issuer", explicit, []*pki.Certificate{with("1.2"), with(pki.AnyPolicy), root}, true},
		{"any of the issuer, which is inhibited", PolicyInputs{Explicit: true, InhibitAny: true},
			[]*pki.Certificate{with("1.2"), with(pki.AnyPolicy), root}, false},
		{"an issuer requires", PolicyInputs{}, []*pki.Certificate{with(), requiring, root}, false},
		{"an issuer requires, and it is there", PolicyInputs{}, []*pki.Certificate{with("1.1"), requiring, root}, true},
		{"mapped", explicit, []*pki.Certificate{with("2.2"), mapping, root}, true},
		{"mapped, which is inhibited", PolicyInputs{Explicit: true, InhibitMapping: true},
			[]*pki.Certificate{with("2.2"), mapping, root}, false},
		{"mapped, and the anchor's policy is accepted", PolicyInputs{Explicit: true, Accepted: []pki.OID{"1.1"}},
			[]*pki.Certificate{with("2.2"), mapping, root}, true},
		{"mapped, and only the subject's policy is accepted", PolicyInputs{Explicit: true, Accepted: []pki.OID{"2.2"}},
			[]*pki.Certificate{with("2.2"), mapping, root}, false},
		{"the leaf itself requires", PolicyInputs{}, []*pki.Certificate{demanding, with(), root}, false},
		{"the leaf would require of what it issues", PolicyInputs{}, []*pki.Certificate{later, with(), root}, true},
		{"required from the second on", PolicyInputs{}, []*pki.Certificate{with(), with(), requiringSoon, root}, false},
		{"required from the third on", PolicyInputs{}, []*pki.Certificate{with(), requiringLate, root}, true},
		{"mapping is inhibited by an issuer", explicit, []*pki.Certificate{with("2.2"), mapping, noMore, root}, false},
		{"anyPolicy is inhibited by an issuer", explicit,
			[]*pki.Certificate{with("1.1"), with(pki.AnyPolicy), notAny, root}, false},
		{"anyPolicy of the leaf", explicit, []*pki.Certificate{with(pki.AnyPolicy), with("1.1"), root}, true},
		{"the policy for all is mapped", PolicyInputs{}, []*pki.Certificate{with("2.2"), mappingAny, root}, false},
	}
	failures := func(path []*pki.Certificate, in PolicyInputs) ([]Failure, Bound) {
		s := search{verifier: &Verifier{}, query: Query{Policies: in, Budget: NewBudget(context.Background())}}
		_, failed := s.policyFailure(path)
		return failed, s.ended
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			got, ended := failures(tt.path, tt.in)
			assert.Equal(t, tt.valid, len(got) == 0)
			assert.Empty(t, ended)
		})
	}
	t.Run("more policies than anybody has", func(t *testing.T) {
		var many []pki.OID
		for i := range 3000 {
			many = append(many, pki.OID(fmt.Sprintf("1.1.%d", i)))
		}
		got, ended := failures([]*pki.Certificate{with("1.1.2999"), with(many...), root}, explicit)
		assert.Empty(t, got, "they are followed")
		assert.Empty(t, ended)
	})
}

func TestUsages(t *testing.T) {
	with := func(usages ...pki.OID) *pki.Certificate {
		return &pki.Certificate{ExtKeyUsage: usages, HasExtKeyUsage: len(usages) > 0}
	}
	const mail, client pki.OID = "1.3.6.1.5.5.7.3.4", "1.3.6.1.5.5.7.3.2"
	tests := []struct {
		name string
		path []*pki.Certificate
		says string
	}{
		{"no restriction", []*pki.Certificate{with(), with(), with()}, ""},
		{"for servers", []*pki.Certificate{with(client, pki.UsageServerAuth), with(pki.UsageServerAuth), with()}, ""},
		{"for anything", []*pki.Certificate{with(pki.UsageAny), with(), with()}, ""},
		{"for something else", []*pki.Certificate{with(client, mail), with(), with()},
			"it may be used for TLS client and e-mail protection only"},
		{"below an issuer for something else", []*pki.Certificate{with(pki.UsageServerAuth), with(mail), with()},
			"what it issues may be used for e-mail protection only"},
		{"the anchor's own does not count", []*pki.Certificate{with(), with(), with(mail)}, ""},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			failures := usageFailure(tt.path, pki.UsageServerAuth)
			if tt.says == "" {
				assert.Empty(t, failures)
				return
			}
			if assert.Len(t, failures, 1) {
				assert.Equal(t, tt.says, failures[0].Detail)
			}
			assert.Empty(t, usageFailure(tt.path, ""), "nothing is asked of it")
		})
	}
}
