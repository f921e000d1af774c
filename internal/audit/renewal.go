package audit

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"sync"

	"nurvik/core/chain"
	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/words"
)

// Renewals looks at what the next renewal will meet: for each of the names, where the addresses are those of the
// endpoint and the port is that of its plain HTTP.
type Renewals interface {
	Look(ctx context.Context, names []string, addresses []netip.Addr, port uint16) *facts.Renewal
}

// atOnceAhead is how many endpoints are looked at together.
const atOnceAhead = 16

// lookAhead adds to what was observed of each endpoint what the next renewal of its certificates will meet.
func (p *Plan) lookAhead(ctx context.Context, o Options, observed []facts.Endpoint) {
	if o.Renewals == nil {
		return
	}
	slots := make(chan struct{}, atOnceAhead)
	var group sync.WaitGroup
	for i := range observed {
		slots <- struct{}{}
		group.Go(func() {
			defer func() { <-slots }()
			e := &observed[i]
			port := p.visits[i].target.Plain
			if port == 0 {
				port = 80 // where HTTP validation asks (RFC 8555, 8.3)
			}
			if names := renewedNames(e); len(names) > 0 {
				e.Renewal = o.Renewals.Look(ctx, names, ownAddresses(e), port)
			}
		})
	}
	group.Wait()
}

// renewedNames are the names of the leaves that the endpoint serves to clients that name it.
func renewedNames(e *facts.Endpoint) (names []string) {
	add := func(ders [][]byte) {
		var given []*pki.Certificate
		for _, der := range ders {
			if c, err := pki.ParseCertificate(der); err == nil {
				given = append(given, c)
			}
		}
		if len(given) == 0 {
			return
		}
		for _, name := range given[chain.ServedLeaf(given)].HostNames() {
			if !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	for _, o := range e.Observations {
		add(o.Certificates)
		for _, other := range o.Others {
			if other.To == "other-key" {
				add(other.Certificates)
			}
		}
	}
	return names
}

func ownAddresses(e *facts.Endpoint) (out []netip.Addr) {
	for _, o := range e.Observations {
		out = append(out, o.Address.Addr().Unmap())
	}
	return out
}

// mostUnlearnt is how many things that were not learnt are told of each endpoint.
const mostUnlearnt = 3

// unlearnt adds what could not be found out about the renewal of an endpoint's certificates.
func (r *Report) unlearnt(e facts.Endpoint) {
	if e.Renewal == nil {
		return
	}
	var all []string
	missing := func(format string, args ...any) { all = append(all, fmt.Sprintf(format, args...)) }
	for _, n := range e.Renewal.Names {
		for _, l := range n.Lookups {
			if l.Failure.Given() {
				missing("%s", words.Of(l.Failure))
			}
		}
		for _, f := range n.Failures {
			missing("%s", words.Of(f))
		}
		for _, page := range n.Pages {
			if page.Failure.Code == facts.NotTried {
				missing("the path for HTTP validation of %s on %s was not tried", n.Name, page.Address)
			}
		}
	}
	if e.Renewal.NotSeen > 0 {
		missing("%d of its names were not looked at", e.Renewal.NotSeen)
	}
	for i, text := range all {
		if i == mostUnlearnt {
			text = fmt.Sprintf("and %d things more were not learnt", len(all)-i)
		}
		r.Unexamined = append(r.Unexamined, Unexamined{e.Endpoint, "renewal: " + text})
		if i == mostUnlearnt {
			break
		}
	}
}
