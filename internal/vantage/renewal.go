package vantage

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"

	"github.com/miekg/dns"
	"golang.org/x/net/publicsuffix"

	"nurvik/core/facts"
	"nurvik/core/naming"
	"nurvik/core/pki"
	"nurvik/core/probe"
)

// Renewals looks at what the next renewal of certificates will meet.
type Renewals struct {
	first  asker   // says where names lead, and all else
	others []asker // say where names lead
	prober *probe.Prober
}

// ChallengePath is where HTTP validation asks (RFC 8555, 8.3), with a token that no CA gives.
const ChallengePath = "/.well-known/acme-challenge/nurvik-looks-whether-this-path-answers"

// mostRenewalNames is how many names of one endpoint are looked at.
const mostRenewalNames = 200

// NewRenewals asks the name server, the system's where none is named, and for addresses the others too.
func NewRenewals(server NameServer, others []string, prober *probe.Prober) (*Renewals, error) {
	r := &Renewals{prober: prober}
	own := server.Address
	if own == "" {
		system, err := dns.ClientConfigFromFile("/etc/resolv.conf")
		if err != nil || len(system.Servers) == 0 {
			return nil, errors.New("this system names no name server in /etc/resolv.conf; name one with --resolver")
		}
		own = net.JoinHostPort(system.Servers[0], system.Port)
	}
	for i, text := range append([]string{own}, others...) {
		address, err := serverAddress(text)
		if err != nil {
			return nil, err
		}
		if i == 0 {
			r.first = asker{address, server.Validates, &atomic.Int32{}}
		} else {
			r.others = append(r.others, asker{address, false, &atomic.Int32{}})
		}
	}
	return r, nil
}

// Look asks about every name. Addresses are those of the endpoint, and the port is that of its plain HTTP.
func (r *Renewals) Look(ctx context.Context, names []string, addresses []netip.Addr, port uint16) *facts.Renewal {
	out := &facts.Renewal{Names: []facts.RenewalName{}}
	if len(names) > mostRenewalNames {
		out.NotSeen, names = len(names)-mostRenewalNames, names[:mostRenewalNames]
	}
	for _, name := range names {
		if ctx.Err() != nil {
			out.NotSeen++
			continue
		}
		out.Names = append(out.Names, r.look(ctx, name, addresses, port))
	}
	return out
}

func (r *Renewals) look(ctx context.Context, name string, own []netip.Addr, port uint16) facts.RenewalName {
	out := facts.RenewalName{Name: name}
	host, wildcard := strings.CutPrefix(name, "*.")
	parsed, err := naming.Parse(host)
	if err != nil {
		out.Failures = append(out.Failures, facts.Because(facts.Failure, err.Error()))
		return out
	}
	host = parsed.String()
	var leads []netip.Addr
	if a, err := netip.ParseAddr(host); err == nil { // RFC 8738: an address is asked for the same path
		leads = append(leads, a)
	} else {
		for _, a := range append([]asker{r.first}, r.others...) {
			if wildcard {
				break // only DNS validation proves a wildcard
			}
			lookup, found := a.lookup(ctx, host)
			out.Lookups = append(out.Lookups, lookup)
			leads = append(leads, found...)
		}
		r.records(ctx, host, &out)
	}
	for _, a := range own {
		if !wildcard && slices.Contains(leads, a) {
			out.Pages = append(out.Pages, r.prober.Page(ctx, netip.AddrPortFrom(a, port), host, ChallengePath))
		}
	}
	return out
}

// lookup asks one name server for the addresses of a name.
func (a asker) lookup(ctx context.Context, host string) (facts.Lookup, []netip.Addr) {
	out := facts.Lookup{Server: a.server}
	var found []netip.Addr
	for _, kind := range []uint16{dns.TypeA, dns.TypeAAAA} {
		reply, err := a.ask(ctx, host, kind)
		if err != nil {
			out.Failure = facts.Because(facts.RecordsFailed, dns.TypeToString[kind], host, pki.Printable(err.Error()))
			if errors.Is(err, errSilent) {
				break
			}
		}
		for _, rr := range answers(reply) {
			var ip net.IP
			switch rr := rr.(type) {
			case *dns.A:
				ip = rr.A
			case *dns.AAAA:
				ip = rr.AAAA
			}
			if addr, ok := netip.AddrFromSlice(ip); ok {
				out.Addresses, found = append(out.Addresses, addr.Unmap().String()), append(found, addr.Unmap())
			}
		}
	}
	return out, found
}

// records asks who may issue for the name, and what stands at its challenge name.
func (r *Renewals) records(ctx context.Context, host string, out *facts.RenewalName) {
	fail := func(kind, name string, err error) {
		out.Failures = append(out.Failures, facts.Because(facts.RecordsFailed, kind, name, pki.Printable(err.Error())))
	}
	var err error
	var at string
	if out.CAA, at, err = r.first.authorities(ctx, host); err != nil {
		fail("CAA", at, err)
	} else if len(out.CAA) > 0 {
		out.CAAAt = at
	}
	if out.Challenge, err = r.first.challenge(ctx, "_acme-challenge."+host); err != nil {
		fail("TXT", "_acme-challenge."+host, err)
	}
}

// mostAliases is how many CNAME records are followed.
const mostAliases = 12

// tokenForm is what stands in a TXT record for a challenge: a SHA-256 digest in base64url (RFC 8555, 8.4).
var tokenForm = regexp.MustCompile(`^[A-Za-z0-9_-]{43}$`)

// challenge asks what stands at the name for DNS validation, and follows where that leads.
func (a asker) challenge(ctx context.Context, name string) (*facts.Challenge, error) {
	out := &facts.Challenge{Name: name}
	seen := map[string]bool{}
	for at := name; ; {
		if seen[at] || len(seen) > mostAliases {
			out.Nowhere = facts.Because(facts.EndlessAliases, at)
			return out, nil
		}
		seen[at] = true
		reply, err := a.ask(ctx, at, dns.TypeTXT)
		if failed := (*answerError)(nil); errors.As(err, &failed) {
			if at == name && a.fails(ctx, strings.TrimPrefix(name, "_acme-challenge.")) {
				return nil, err // the name server has the same trouble with the name itself
			}
			out.Own = out.Own || at == name
			out.Nowhere = facts.Because(facts.ServerSilent, at, failed.answer)
			return out, nil
		} else if err != nil {
			return nil, err
		}
		next, steps := at, len(out.LeadsTo)
		for _, rr := range answers(reply) { // a resolver gives the whole way, an authoritative server a step
			switch rr := rr.(type) {
			case *dns.CNAME:
				next = canonical(rr.Target)
				out.LeadsTo = append(out.LeadsTo, next)
			case *dns.TXT:
				if text := strings.Join(rr.Txt, ""); tokenForm.MatchString(text) && !slices.Contains(out.Tokens, text) {
					out.Tokens = append(out.Tokens, text)
				}
			}
		}
		if len(out.LeadsTo) == steps || len(out.Tokens) > 0 {
			out.Own = out.Own || zoneOf(reply) == at
			out.Nowhere = nowhere(at, reply)
			return out, nil
		}
		at = next
	}
}

// fails reports whether the name server says nothing of the name either.
func (a asker) fails(ctx context.Context, host string) bool {
	_, err := a.ask(ctx, host, dns.TypeA)
	return err != nil
}

func canonical(name string) string {
	return strings.ToLower(strings.TrimSuffix(pki.Printable(name), "."))
}

// zoneOf is the zone whose start of authority comes with a negative answer (RFC 2308, 3); "" where none comes.
func zoneOf(reply *dns.Msg) string {
	for _, rr := range reply.Ns {
		if soa, ok := rr.(*dns.SOA); ok {
			return canonical(soa.Hdr.Name)
		}
	}
	return ""
}

// nowhere says that the name lies in a domain that nobody has: then it is a public suffix, or the root, that says that
// the name does not exist. That it does not exist in a domain that does is usual: the record is made when it is needed.
func nowhere(name string, reply *dns.Msg) facts.Reason {
	if reply.Rcode != dns.RcodeNameError || len(reply.Ns) == 0 {
		return facts.Reason{}
	}
	domain, err := publicsuffix.EffectiveTLDPlusOne(name)
	if err != nil || dns.IsSubDomain(dns.Fqdn(domain), dns.Fqdn(zoneOf(reply))) {
		return facts.Reason{}
	}
	return facts.Because(facts.NoSuchDomain, name, domain)
}
