package judge_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/pairing"
	"nurvik/core/policy"
)

// TestPlacesOf: which site of a machine an endpoint is, by name, port and address.
func TestPlacesOf(t *testing.T) {
	site := func(address string, port uint16, names ...string) facts.Site {
		s := facts.Site{Listens: []facts.Listen{{Address: address, Port: port, Scheme: "https"}},
			Identities: []facts.Identity{{Certificate: facts.Setting{Value: "/x.pem"}}}}
		for _, n := range names {
			s.Names = append(s.Names, facts.Setting{Value: n})
		}
		return s
	}
	tests := []struct {
		name    string
		sites   []facts.Site
		machine string
		want    []int // sites
	}{
		{"its name and port", []facts.Site{site("", 443, "www.tarnholm.example", host)}, "", []int{0}},
		{"another port", []facts.Site{site("", 8443, host)}, "", nil},
		{"another name", []facts.Site{site("", 443, "www.tarnholm.example")}, "", nil},
		{"the exact name before a wildcard", []facts.Site{site("", 443, "*.tarnholm.example"), site("", 443, host)}, "",
			[]int{1}},
		{"a wildcard", []facts.Site{site("*", 443, "*.tarnholm.example")}, "", []int{0}},
		{"a domain with all below", []facts.Site{site("0.0.0.0", 443, ".tarnholm.example")}, "", []int{0}},
		{"the address that was visited", []facts.Site{site("192.0.2.7", 443, host)}, "", []int{0}},
		{"an address that nobody visited", []facts.Site{site("192.0.2.8", 443, host), site("127.0.0.1", 443, host)}, "",
			nil},
		{"no name, at the address", []facts.Site{site("192.0.2.7", 443)}, "", []int{0}},
		{"no name, and the machine is called so", []facts.Site{site("", 443)}, host, []int{0}},
		{"no name, on some machine", []facts.Site{site("", 443)}, "wharf", nil},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			o := facts.Observation{Address: netip.MustParseAddrPort("192.0.2.7:443")}
			got := judge.PlacesOf(tt.machine, []facts.Configuration{{Sites: tt.sites}},
				[]facts.Endpoint{observed(o, o)})
			var sites []int
			for _, p := range got {
				sites = append(sites, p.Site)
			}
			assert.Equal(t, tt.want, sites)
		})
	}
}

// TestReconcileMachines: what was collected may be older or newer than what was seen, and of several machines each may
// be the one that answers.
func TestReconcileMachines(t *testing.T) {
	s := newScene(t)
	older, newer := s.leaf(s.lower, nil), s.leaf(s.upper, nil)
	chain := func(leaf []byte) [][]byte { return [][]byte{leaf, s.lower.DER, s.upper.DER} }
	machine := func(name string, known time.Time, leaf []byte) judge.Machine {
		files := []facts.File{onDisk("/etc/ssl/site.pem", chain(leaf))}
		return judge.Machine{Name: name, Known: known, Files: files, Together: pairing.Pair(files, nil, now),
			Configurations: []facts.Configuration{told("/etc/ssl/site.pem", "/etc/ssl/site.key")},
			Places:         []judge.Placed{{}}}
	}
	issued := s.parse(older).NotBefore
	tests := []struct {
		name     string
		machines []judge.Machine
		want     []string
	}{
		{"another certificate", []judge.Machine{machine("wharf", now.Add(-time.Hour), newer)},
			[]string{"deploy.other-source note"}},
		{"collected after the visit", []judge.Machine{machine("wharf", now.Add(time.Hour), newer)}, nil},
		{"collected before the certificate was issued",
			[]judge.Machine{machine("wharf", issued.Add(-time.Hour), newer)}, nil},
		{"another machine is told to serve it", []judge.Machine{machine("wharf", now.Add(-time.Hour), newer),
			machine("quay", now.Add(-time.Hour), older)}, nil},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			context := s.context()
			seen := []facts.Endpoint{observed(served("1.2,1.3", chain(older)...))}
			judged := []judge.Judgement{judge.Endpoint(seen[0], context)}
			before := len(judged[0].Findings)
			all := judge.Reconcile(tt.machines, seen, judged,
				func(int) *policy.Policy { return &context.Policy }, context)
			var got []string
			for _, f := range judged[0].Findings[before:] {
				got = append(got, f.Code+" "+string(f.Severity))
			}
			assert.Equal(t, tt.want, got)
			assert.Len(t, all, len(tt.machines), "the columns are shown all the same")
			assert.Equal(t, "wharf", all[0].Machine)
		})
	}
}
