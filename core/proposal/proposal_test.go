package proposal_test

import (
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"

	"nurvik/core/facts"
	"nurvik/core/proposal"
)

func TestOfName(t *testing.T) {
	tests := []struct{ name, text, at, want string }{
		{"a file", "tides.tarnholm.example", "", "tides.tarnholm.example:443"},
		{"capital letters, and a dot at the end", "TIDES.tarnholm.example.", "", "tides.tarnholm.example:443"},
		{"served by a mail server", "relay.tarnholm.example", "smtp://mail.tarnholm.example:25",
			"relay.tarnholm.example:25"},
		{"on a port of its own", "relay.tarnholm.example", "mail.tarnholm.example:8443", "relay.tarnholm.example:8443"},
		{"a wildcard", "*.tarnholm.example", "", ""},
		{"an address", "192.0.2.7", "", ""},
		{"a mail address", "pilot@tarnholm.example", "", ""},
		{"a machine's short name", "quay", "", ""},
		{"no host", "_tide.tarnholm.example", "", ""},
		{"nothing", "", "", ""},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			seen, ok := proposal.OfName(tt.text, proposal.Source{Endpoint: tt.at})
			assert.Equal(t, tt.want != "", ok)
			if ok {
				assert.Equal(t, tt.want, seen.Endpoint.String())
			}
		})
	}
}

func TestOfConfiguration(t *testing.T) {
	site := func(change func(*facts.Site)) facts.Site {
		s := facts.Site{Listens: []facts.Listen{{Port: 443, Scheme: "https"}},
			Names: []facts.Setting{{Value: "tides.tarnholm.example",
				Line: facts.Line{File: "/etc/nginx/tides.conf", Line: 7}}},
			Identities: []facts.Identity{{}}}
		change(&s)
		return s
	}
	tests := []struct {
		name string
		site facts.Site
		want []string
	}{
		{"as it is", site(func(*facts.Site) {}), []string{"tides.tarnholm.example:443"}},
		{"two ports and a mail server's", site(func(s *facts.Site) {
			s.Listens = []facts.Listen{{Port: 8443, Scheme: "https"},
				{Port: 993, Scheme: "imaps", Address: "192.0.2.7"}}
		}), []string{"tides.tarnholm.example:8443", "tides.tarnholm.example:993"}},
		{"without a certificate", site(func(s *facts.Site) { s.Identities = nil }), nil},
		{"switched off", site(func(s *facts.Site) { s.Off = true }), nil},
		{"for this machine alone", site(func(s *facts.Site) { s.Listens[0].Address = "127.0.0.1" }), nil},
		{"a socket", site(func(s *facts.Site) { s.Listens[0].Socket = true }), nil},
		{"nothing protected", site(func(s *facts.Site) { s.Listens[0].Scheme = "http" }), nil},
		{"names that are none", site(func(s *facts.Site) {
			s.Names = []facts.Setting{{Value: "_"}, {Value: "~^www"}, {Value: "*.tarnholm.example"}}
		}), nil},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			c := &facts.Configuration{Server: "nginx", Path: "/etc/nginx/nginx.conf", Sites: []facts.Site{tt.site}}
			var got []string
			for _, s := range proposal.OfConfiguration(c, proposal.Source{Holding: "quay"}) {
				got = append(got, s.Endpoint.String())
				assert.Equal(t,
					proposal.Source{Holding: "quay", Server: "nginx", Path: "/etc/nginx/tides.conf", Line: 7},
					s.Source)
			}
			assert.Equal(t, tt.want, got)
		})
	}
}

func TestJoin(t *testing.T) {
	var seen []proposal.Seen
	for i := range 25 {
		s, _ := proposal.OfName("tides.tarnholm.example", proposal.Source{Path: "/etc/ssl/tides.pem",
			Line: i % 12, Certificate: strconv.Itoa(i)})
		seen = append(seen, s)
	}
	other, _ := proposal.OfName("cranes.tarnholm.example", proposal.Source{})
	got := proposal.Join(append(seen, other))
	assert.Equal(t, []string{"cranes.tarnholm.example:443", "tides.tarnholm.example:443"},
		[]string{got[0].Endpoint, got[1].Endpoint})
	assert.Equal(t, []int{1, 12, 10}, []int{got[0].Places, got[1].Places, len(got[1].Sources)},
		"each place once, ten are told")
}
