package harbour

import (
	"cmp"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"fmt"
	"net"
	"net/netip"
	"strings"

	"github.com/miekg/dns"

	"nurvik/core/endpoint"
)

// nameServer stands in for the authority's name server. It knows the harbour's
// names and says of every other that it does not exist.
type nameServer struct {
	addresses map[string][]netip.Addr
	records   map[string][]dns.RR // by type and name
	unsigned  map[string]bool     // names whose records it cannot validate
	servers   []*dns.Server
}

func newNameServer() *nameServer {
	n := &nameServer{addresses: map[string][]netip.Addr{}, records: map[string][]dns.RR{}, unsigned: map[string]bool{}}
	n.authorize(domain, "outer.tarnholm.example")
	return n
}

// authorize lets the issuers, and nobody else, issue for the name.
func (n *nameServer) authorize(name string, issuers ...string) {
	key := recordKey(dns.TypeCAA, name)
	for _, issuer := range issuers {
		n.records[key] = append(n.records[key], &dns.CAA{Hdr: header(name, dns.TypeCAA), Tag: "issue", Value: issuer})
	}
}

// publish takes in what the berth has beside its addresses.
func (n *nameServer) publish(b berth, certificate *tls.Certificate) {
	n.authorize(b.fullName(), b.issuers...)
	n.unsigned[b.fullName()] = b.unsigned
	n.prepare(b)
	if b.pinned == "" {
		return
	}
	leaf, err := x509.ParseCertificate(certificate.Certificate[0])
	if err != nil {
		return
	}
	sum := sha256.Sum256(leaf.RawSubjectPublicKeyInfo)
	if b.pinned == "another" {
		sum[0]++
	}
	e, err := endpoint.Parse(b.endpoint()) // as the estate knows the berth
	if err != nil {
		return
	}
	name := fmt.Sprintf("_%d._tcp.%s", e.Port, b.fullName())
	n.records[recordKey(dns.TypeTLSA, name)] = []dns.RR{&dns.TLSA{Hdr: header(name, dns.TypeTLSA), Usage: 3,
		Selector: 1, MatchingType: 1, Certificate: hex.EncodeToString(sum[:])}}
}

// prepare takes in what the next renewal of the berth's certificate will meet.
func (n *nameServer) prepare(b berth) {
	if b.renewal == nil {
		return
	}
	for name, address := range b.renewal.names {
		leads := netip.MustParseAddr(cmp.Or(address, b.addresses[0]))
		n.addresses[name+"."+domain] = append(n.addresses[name+"."+domain], leads)
	}
	for name, target := range b.renewal.aliases {
		name += "." + domain
		n.records[recordKey(dns.TypeCNAME, name)] = []dns.RR{&dns.CNAME{Hdr: header(name, dns.TypeCNAME),
			Target: dns.Fqdn(target)}}
	}
	for name, text := range b.renewal.texts {
		name += "." + domain
		n.records[recordKey(dns.TypeTXT, name)] = []dns.RR{&dns.TXT{Hdr: header(name, dns.TypeTXT),
			Txt: []string{text}}}
	}
	for name, issuer := range b.renewal.issuers {
		n.authorize(name+"."+domain, issuer)
	}
}

// zone is the start of authority that comes with the answer that a name does not exist (RFC 2308, 3): of the harbour's
// own domain, or of the one above, as if this were a resolver.
func zone(name string) *dns.SOA {
	above := "example"
	if name == domain || strings.HasSuffix(name, "."+domain) {
		above = domain
	}
	return &dns.SOA{Hdr: header(above, dns.TypeSOA), Ns: "ns." + domain + ".", Mbox: "hostmaster." + domain + ".",
		Serial: 1, Refresh: 3600, Retry: 600, Expire: 86400, Minttl: 5}
}

func recordKey(kind uint16, name string) string { return dns.TypeToString[kind] + " " + name }

func header(name string, kind uint16) dns.RR_Header {
	return dns.RR_Header{Name: dns.Fqdn(name), Rrtype: kind, Class: dns.ClassINET, Ttl: 5}
}

// start answers over UDP and TCP on the address.
func (n *nameServer) start(address string) error {
	packet, err := net.ListenPacket("udp", address)
	if err != nil {
		return fmt.Errorf("the harbour's name server cannot listen on %s: %w; choose another port with --harbour-port",
			address, err)
	}
	stream, err := net.Listen("tcp", address)
	if err != nil {
		_ = packet.Close()
		return fmt.Errorf("the harbour's name server cannot listen on %s: %w; choose another port with --harbour-port",
			address, err)
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
		if records := n.records[recordKey(q.Qtype, name)]; len(records) > 0 {
			reply.Answer = append(reply.Answer, records...)
			_, host, _ := strings.Cut(name, "._tcp.")
			reply.AuthenticatedData = !n.unsigned[host]
			continue
		}
		if alias := n.records[recordKey(dns.TypeCNAME, name)]; len(alias) > 0 {
			reply.Answer = append(reply.Answer, alias...)
			continue
		}
		addresses, known := n.addresses[name]
		if !known {
			reply.Rcode, reply.Ns = dns.RcodeNameError, []dns.RR{zone(name)}
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
