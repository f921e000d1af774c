package proposal_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/proposal"
)

func prefix(text string) netip.Prefix { return netip.MustParsePrefix(text) }

func TestChoose(t *testing.T) {
	allowed := proposal.Ranges{{prefix("10.20.0.0/16"), []uint16{443, 993}}, {prefix("2001:db8::/64"), []uint16{443}}}
	tests := []struct {
		name     string
		networks []netip.Prefix
		ports    []uint16
		want     proposal.Ranges
		wrong    string
	}{
		{"one inside, with all ports", []netip.Prefix{prefix("10.20.7.0/24")}, nil,
			proposal.Ranges{{prefix("10.20.7.0/24"), []uint16{443, 993}}}, ""},
		{"bits behind the network", []netip.Prefix{prefix("10.20.7.9/24")}, []uint16{993, 22, 993},
			proposal.Ranges{{prefix("10.20.7.0/24"), []uint16{993}}}, ""},
		{"as it is allowed", []netip.Prefix{prefix("10.20.0.0/16")}, []uint16{443},
			proposal.Ranges{{prefix("10.20.0.0/16"), []uint16{443}}}, ""},
		{"IPv6", []netip.Prefix{prefix("2001:db8::/112")}, nil,
			proposal.Ranges{{prefix("2001:db8::/112"), []uint16{443}}}, ""},
		{"a wider one", []netip.Prefix{prefix("10.0.0.0/8")}, nil, nil, "10.0.0.0/8 may not be searched"},
		{"everything", []netip.Prefix{prefix("0.0.0.0/0")}, nil, nil, "may not be searched"},
		{"another", []netip.Prefix{prefix("10.21.0.0/24")}, nil, nil, "--search-network 10.21.0.0/24=443"},
		{"no port of it", []netip.Prefix{prefix("10.20.7.0/24")}, []uint16{22}, nil,
			"none of these ports may be searched in 10.20.7.0/24; allowed are 443, 993"},
		{"too much of IPv4", []netip.Prefix{prefix("10.20.0.0/16")}, nil, nil, "more than 65536 places"},
		{"too much of IPv6", []netip.Prefix{prefix("2001:db8::/64")}, nil, nil, "more than 65536 places"},
		{"too much together", []netip.Prefix{prefix("10.20.0.0/17"), prefix("10.20.128.0/24")}, nil, nil,
			"more than 65536 places"},
		{"all that are allowed", nil, nil, nil, "more than 65536 places"},
		{"twice", []netip.Prefix{prefix("10.20.7.0/24"), prefix("10.20.7.8/32")}, nil, nil, "overlap"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			got, err := proposal.Choose(allowed, tt.networks, tt.ports)
			if tt.wrong != "" {
				require.ErrorContains(t, err, tt.wrong)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, tt.want, got)
		})
	}
	_, err := proposal.Choose(nil, []netip.Prefix{prefix("10.20.7.0/24")}, nil)
	assert.Error(t, err, "nothing is allowed by default")
}

// TestSlice: every place is met once, however a search is cut into portions.
func TestSlice(t *testing.T) {
	r := proposal.Ranges{{prefix("10.20.1.254/31"), []uint16{443, 993}}, {prefix("2001:db8::fffe/127"), []uint16{8443}},
		{prefix("10.20.0.0/16"), []uint16{25}}}
	all := r.Slice(0, 10)
	var texts []string
	for _, at := range all {
		texts = append(texts, at.String())
	}
	assert.Equal(t, []string{"10.20.1.254:443", "10.20.1.254:993", "10.20.1.255:443", "10.20.1.255:993",
		"[2001:db8::fffe]:8443", "[2001:db8::ffff]:8443", "10.20.0.0:25", "10.20.0.1:25", "10.20.0.2:25",
		"10.20.0.3:25"}, texts)
	assert.Equal(t, proposal.MostSearched+1, r.Size(), "one port of a /16 is as much as there may be")
	r = r[:2]
	for size := range 8 {
		var cut []netip.AddrPort
		for from := 0; from < r.Size(); from += size + 1 {
			cut = append(cut, r.Slice(from, from+size+1)...)
		}
		assert.Equal(t, all[:6], cut, size)
	}
	last := proposal.Ranges{{prefix("10.20.0.0/16"), []uint16{25}}}.Slice(proposal.MostSearched-1,
		proposal.MostSearched+5)
	assert.Equal(t, []netip.AddrPort{netip.MustParseAddrPort("10.20.255.255:25")}, last)
}

func TestOfFound(t *testing.T) {
	f := proposal.Found{Address: netip.MustParseAddrPort("192.0.2.7:993"), Scheme: "imaps", Names: []string{
		"relay.tarnholm.example", "RELAY.tarnholm.example", "*.tarnholm.example", "192.0.2.7", "quay"}}
	var got []string
	for _, s := range append(proposal.OfFound(f), f.Itself()) {
		got = append(got, s.Endpoint.String())
		assert.Equal(t, proposal.Source{Address: "192.0.2.7:993"}, s.Source)
	}
	assert.Equal(t, []string{"relay.tarnholm.example:993", "192.0.2.7:993"}, got)
}
