package harbour

import (
	"fmt"
	"net"
	"net/netip"
	"strings"

	"github.com/miekg/dns"
)

// nameServer stands in for the authority's name server. It knows the harbour's
// names and says of every other that it does not exist.
type nameServer struct {
	addresses map[string][]netip.Addr
	servers   []*dns.Server
}

// start answers over UDP and TCP on the address.
func (n *nameServer) start(address string) error {
	packet, err := net.ListenPacket("udp", address)
	if err != nil {
		return fmt.Errorf("the harbour's name server cannot listen on %s: %w; choose another port with --harbour-port", address, err)
	}
	stream, err := net.Listen("tcp", address)
	if err != nil {
		_ = packet.Close()
		return fmt.Errorf("the harbour's name server cannot listen on %s: %w; choose another port with --harbour-port", address, err)
	}
	for _, s := range []*dns.Server{{PacketConn: packet, Handler: n}, {Listener: stream, Handler: n}} {
		started := make(chan struct{})
		s.NotifyStartedFunc = func() { close(started) }
		n.servers = append(n.servers, s)
		go func() { _ = s.ActivateAndServe() }()
		<-started
	}
	return nil
}

// ServeDNS implements dns.Handler.
func (n *nameServer) ServeDNS(w dns.ResponseWriter, request *dns.Msg) {
	reply := new(dns.Msg)
	reply.SetReply(request)
	reply.Authoritative = true
	for _, q := range request.Question {
		name := strings.ToLower(strings.TrimSuffix(q.Name, "."))
		addresses, known := n.addresses[name]
		if !known {
			reply.Rcode = dns.RcodeNameError
			continue
		}
		if q.Qtype != dns.TypeA {
			continue
		}
		for _, a := range addresses {
			reply.Answer = append(reply.Answer, &dns.A{
				Hdr: dns.RR_Header{Name: q.Name, Rrtype: dns.TypeA, Class: dns.ClassINET, Ttl: 5},
				A:   a.AsSlice(),
			})
		}
	}
	_ = w.WriteMsg(reply)
}

func (n *nameServer) close() {
	for _, s := range n.servers {
		_ = s.Shutdown()
	}
}
