package probe

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"nurvik/core/endpoint"
	"nurvik/core/facts"
	"nurvik/core/limits"
)

// Network is what a visit needs of the world.
type Network struct {
	// Dial opens a TCP connection; the context carries the deadline.
	Dial func(ctx context.Context, address netip.AddrPort) (net.Conn, error)
	// Lookup returns all addresses of a host name.
	Lookup func(ctx context.Context, host string) ([]netip.Addr, error)
	// Records asks a name server what it says of a service; nil asks none.
	Records func(ctx context.Context, host string, port uint16) *facts.DNS
	// HasRoute reports whether packets to the address can leave this machine.
	HasRoute func(address netip.Addr) bool
	// Now is the clock.
	Now func() time.Time
}

// Prober makes visits. It is safe for concurrent use; the limits hold for all
// visits that it makes together.
type Prober struct {
	network Network
	limits  limits.Limits
	gate    *gate
}

// New makes a prober. Limits that say nothing are the default ones. It panics
// when the network lacks a function.
func New(network Network, l limits.Limits) *Prober {
	l = l.Over(limits.Defaults)
	if network.Dial == nil || network.Lookup == nil || network.HasRoute == nil || network.Now == nil {
		panic("probe: the network is incomplete")
	}
	return &Prober{network: network, limits: l, gate: newGate(l, network.Now)}
}

// AtOnce is how many connections there may be at once over all hosts.
func (p *Prober) AtOnce() int { return p.limits.AtOnce }

// Target is an endpoint to be visited, and how.
type Target struct {
	Endpoint   endpoint.Endpoint
	Connect    []endpoint.Connect // instead of the addresses of the name
	ServerName string             // to send; "" for the endpoint's own
	Effort     facts.Effort       // "" for normal
	Plain      uint16             // port of plain HTTP; 0 for 80 beside 443, and none beside others
}

// Call is how each address of the target is visited.
func (t Target) Call() Call {
	c := Call{Scheme: t.Endpoint.Scheme, ServerName: t.serverName(), Effort: t.Effort, Web: t.Endpoint.Scheme == "https", Plain: t.Plain}
	if c.Web && c.Plain == 0 && t.Endpoint.Port == 443 && len(t.Connect) == 0 {
		c.Plain = 80
	}
	return c
}

// serverName is the name to send in the handshake.
func (t Target) serverName() string {
	if t.ServerName != "" {
		return t.ServerName
	}
	return t.Endpoint.ServerName()
}

// Plan is the addresses to visit, and those that cannot be reached from here.
type Plan struct {
	Visit   []netip.AddrPort
	NoRoute []netip.AddrPort // their family has no route
	DNS     *facts.DNS       // what the name server said; nil where none was asked
}

// Plan finds the addresses of the target. The error says why the name leads nowhere.
func (p *Prober) Plan(ctx context.Context, t Target) (Plan, error) {
	var all []netip.AddrPort
	for _, c := range t.Connect {
		all = append(all, c.On(t.Endpoint))
	}
	if len(all) == 0 {
		addresses, err := p.addresses(ctx, t.Endpoint.Host)
		if err != nil {
			return Plan{}, err
		}
		for _, a := range addresses {
			all = append(all, netip.AddrPortFrom(a, t.Endpoint.Port))
		}
	}
	slices.SortFunc(all, netip.AddrPort.Compare)
	plan := Plan{DNS: p.records(ctx, t.Endpoint)}
	for _, a := range slices.Compact(all) {
		if p.network.HasRoute(a.Addr()) {
			plan.Visit = append(plan.Visit, a)
		} else {
			plan.NoRoute = append(plan.NoRoute, a)
		}
	}
	return plan, nil
}

// records asks for the records of a name, where a name server was named.
func (p *Prober) records(ctx context.Context, e endpoint.Endpoint) *facts.DNS {
	if _, err := netip.ParseAddr(e.Host); err == nil || p.network.Records == nil {
		return nil
	}
	select {
	case p.gate.lookups <- struct{}{}:
		defer func() { <-p.gate.lookups }()
	case <-ctx.Done():
		return nil
	}
	return p.network.Records(ctx, e.Host, e.Port)
}

func (p *Prober) addresses(ctx context.Context, host string) ([]netip.Addr, error) {
	if address, err := netip.ParseAddr(host); err == nil {
		return []netip.Addr{address}, nil
	}
	select {
	case p.gate.lookups <- struct{}{}:
		defer func() { <-p.gate.lookups }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	ctx, cancel := context.WithTimeout(ctx, p.limits.Handshake)
	defer cancel()
	found, err := p.network.Lookup(ctx, host)
	if err != nil {
		return nil, err
	}
	if len(found) == 0 {
		return nil, fmt.Errorf("%s has no address", host)
	}
	for i := range found {
		found[i] = found[i].Unmap()
	}
	return found, nil
}

// Examine plans and makes the visits of one target, address beside address.
// When the context ends, the observations made until then are returned with
// its error.
func (p *Prober) Examine(ctx context.Context, t Target) (facts.Endpoint, error) {
	out := facts.Endpoint{Schema: facts.Schema, Endpoint: t.Endpoint.String(), Observations: []facts.Observation{}}
	plan, err := p.Plan(ctx, t)
	if err != nil {
		out.ResolveError = err.Error()
		return out, ctx.Err()
	}
	for _, a := range plan.NoRoute {
		out.NoRoute = append(out.NoRoute, a.Addr().String())
	}
	out.DNS = plan.DNS
	observations := make([]*facts.Observation, len(plan.Visit))
	var group sync.WaitGroup
	for i, address := range plan.Visit {
		group.Go(func() {
			if o, err := p.Visit(ctx, address, t.Call()); err == nil {
				observations[i] = &o
			}
		})
	}
	group.Wait()
	for _, o := range observations {
		if o != nil {
			out.Observations = append(out.Observations, *o)
		}
	}
	return out, ctx.Err()
}
