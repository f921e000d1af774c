package vantage_test

import (
	"net"
	"net/netip"
	"strings"
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/limits"
	"nurvik/core/words"
	"nurvik/internal/vantage"
)

// samePort listens for UDP and TCP on one port. A port that is free for the one may be taken for the other.
func samePort(t *testing.T) (net.PacketConn, net.Listener) {
	t.Helper()
	for range 50 {
		packet, err := net.ListenPacket("udp", "127.0.0.1:0")
		require.NoError(t, err)
		stream, err := net.Listen("tcp", packet.LocalAddr().String())
		if err == nil {
			return packet, stream
		}
		require.NoError(t, packet.Close())
	}
	require.Fail(t, "no port is free for UDP and TCP")
	return nil, nil
}

// nameServer answers with the records of a zone, over UDP and TCP.
func nameServer(t *testing.T, zone string) string {
	t.Helper()
	records, known := map[string][]dns.RR{}, map[string]bool{}
	parser := dns.NewZoneParser(strings.NewReader(zone), "", "")
	for rr, ok := parser.Next(); ok; rr, ok = parser.Next() {
		key := dns.TypeToString[rr.Header().Rrtype] + " " + rr.Header().Name
		records[key], known[rr.Header().Name] = append(records[key], rr), true
	}
	require.NoError(t, parser.Err())
	packet, stream := samePort(t)
	for network, server := range map[string]*dns.Server{"udp": {PacketConn: packet}, "tcp": {Listener: stream}} {
		server.Handler = dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
			reply := new(dns.Msg)
			reply.SetReply(q)
			name := q.Question[0].Name
			reply.Answer = records[dns.TypeToString[q.Question[0].Qtype]+" "+name]
			if alias := records["CNAME "+name]; alias != nil {
				reply.Answer = alias
			}
			if !known[name] {
				reply.Rcode, reply.Ns = dns.RcodeNameError, []dns.RR{above(name)}
			}
			reply.AuthenticatedData = q.AuthenticatedData && q.IsEdns0() != nil && q.IsEdns0().Do()
			if strings.Contains(name, "broken") {
				reply.Rcode = dns.RcodeServerFailure
			}
			if network == "udp" && strings.Contains(name, "long") {
				reply.Truncated, reply.Answer = true, nil
			}
			_ = w.WriteMsg(reply)
		})
		started := make(chan struct{})
		server.NotifyStartedFunc = func() { close(started) }
		go func() { _ = server.ActivateAndServe() }()
		<-started
		t.Cleanup(func() { _ = server.Shutdown() })
	}
	return packet.LocalAddr().String()
}

const zone = `
tides.tarnholm.example. 5 IN A 192.0.2.7
tides.tarnholm.example. 5 IN AAAA 2001:db8::7
tarnholm.example. 5 IN CAA 0 issue "outer.tarnholm.example"
tarnholm.example. 5 IN CAA 128 iodef "mailto:keys@tarnholm.example"
_443._tcp.tides.tarnholm.example. 5 IN TLSA 3 1 1 0102030000000000000000000000000000000000000000000000000000000000
_25._tcp.long.tarnholm.example. 5 IN TLSA 3 1 0 0a0b
own.tarnholm.example. 5 IN CAA 0 issue ";"
odd.tarnholm.example. 5 IN CAA 0 issue "\\027[31mred"
`

func TestRecords(t *testing.T) {
	server := nameServer(t, zone)
	pin := make([]byte, 32)
	copy(pin, []byte{1, 2, 3})
	domain := []facts.CAA{{Tag: "issue", Value: "outer.tarnholm.example"},
		{Critical: true, Tag: "iodef", Value: "mailto:keys@tarnholm.example"}}
	tests := []struct {
		name, host string
		port       uint16
		validates  bool
		want       facts.DNS
	}{
		{"everything, the CAA records of the domain", "tides.tarnholm.example", 443, true,
			facts.DNS{Addresses: []string{"192.0.2.7", "2001:db8::7"}, CAA: domain, CAAAt: "tarnholm.example",
				TLSA:   []facts.TLSA{{Usage: 3, Selector: 1, Matching: 1, Data: pin}},
				TLSAAt: "_443._tcp.tides.tarnholm.example", Validated: true}},
		{"a resolver that nobody declared trustworthy", "tides.tarnholm.example", 443, false,
			facts.DNS{Addresses: []string{"192.0.2.7", "2001:db8::7"}, CAA: domain, CAAAt: "tarnholm.example",
				TLSA:   []facts.TLSA{{Usage: 3, Selector: 1, Matching: 1, Data: pin}},
				TLSAAt: "_443._tcp.tides.tarnholm.example"}},
		{"another port has no TLSA record", "tides.tarnholm.example", 8443, true,
			facts.DNS{Addresses: []string{"192.0.2.7", "2001:db8::7"}, CAA: domain, CAAAt: "tarnholm.example"}},
		{"the nearest CAA records count", "own.tarnholm.example", 443, true,
			facts.DNS{CAA: []facts.CAA{{Tag: "issue", Value: ";"}}, CAAAt: "own.tarnholm.example"}},
		{"an answer that does not fit into a packet", "long.tarnholm.example", 25, true,
			facts.DNS{CAA: domain, CAAAt: "tarnholm.example",
				TLSA:   []facts.TLSA{{Usage: 3, Selector: 1, Data: []byte{10, 11}}},
				TLSAAt: "_25._tcp.long.tarnholm.example", Validated: true}},
		{"control characters are shown as such", "odd.tarnholm.example", 443, true,
			facts.DNS{CAA: []facts.CAA{{Tag: "issue", Value: `\027[31mred`}}, CAAAt: "odd.tarnholm.example"}},
		{"an internationalised name", "gezeiten-büro.example", 443, true, facts.DNS{}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			network, err := vantage.Network(vantage.NameServer{Address: server, Validates: tt.validates})
			require.NoError(t, err)
			tt.want.Server = server
			assert.Equal(t, &tt.want, network.Records(t.Context(), tt.host, tt.port))
		})
	}
	t.Run("failures are told", func(t *testing.T) {
		network, err := vantage.Network(vantage.NameServer{Address: server, Validates: true})
		require.NoError(t, err)
		got := network.Records(t.Context(), "broken.tarnholm.example", 443)
		assert.Len(t, got.Failures, 4)
		assert.Contains(t, words.Of(got.Failures[0]), "SERVFAIL")
		assert.False(t, got.Validated)
	})
	t.Run("a name server that is not there is asked once", func(t *testing.T) {
		closed, err := net.ListenPacket("udp", "127.0.0.1:0")
		require.NoError(t, err)
		require.NoError(t, closed.Close())
		network, err := vantage.Network(vantage.NameServer{Address: closed.LocalAddr().String()})
		require.NoError(t, err)
		got := network.Records(t.Context(), "tides.tarnholm.example", 443)
		require.Len(t, got.Failures, 1)
		assert.Contains(t, words.Of(got.Failures[0]), "did not answer")
	})
	t.Run("addresses come from there too", func(t *testing.T) {
		network, err := vantage.Network(vantage.NameServer{Address: server})
		require.NoError(t, err)
		found, err := network.Lookup(t.Context(), "tides.tarnholm.example")
		require.NoError(t, err)
		assert.ElementsMatch(t, []netip.Addr{netip.MustParseAddr("192.0.2.7"), netip.MustParseAddr("2001:db8::7")},
			found)
	})
}

func TestNameServers(t *testing.T) {
	network, err := vantage.Network(vantage.NameServer{})
	require.NoError(t, err)
	assert.Nil(t, network.Records, "the system's resolver is asked for addresses alone")
	_, err = vantage.Network(vantage.NameServer{Address: "ns.tarnholm.example"})
	assert.ErrorContains(t, err, "write ADDRESS or ADDRESS:PORT")
}

func TestAfford(t *testing.T) {
	assert.Equal(t, limits.Limits{AtOnce: 5}, vantage.Afford(limits.Limits{AtOnce: 5}),
		"few are always within what a process may open")
	got := vantage.Afford(limits.Limits{AtOnce: 1 << 30})
	assert.Positive(t, got.AtOnce)
	assert.Less(t, got.AtOnce, 1<<30)
}
