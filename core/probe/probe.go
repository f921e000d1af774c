package probe

import (
	"cmp"
	"context"
	"net/netip"
	"slices"
	"sync"
	"time"

	"nurvik/core/endpoint"
	"nurvik/core/facts"
	"nurvik/core/plain"
)

// Target is an endpoint to be visited, and how.
type Target struct {
	Endpoint   endpoint.Endpoint
	VisitAt    []endpoint.VisitAt // instead of the addresses of the name
	ServerName string             // to send; "" for the endpoint's own
	Effort     facts.Effort       // "" for the usual
	Plain      uint16             // port of plain HTTP; 0 for 80 beside 443, and none beside others
}

// TargetOf is what is to be visited for settings. The server name is the one
// that is set, else the first expected host name.
func TargetOf(s endpoint.Settings, effort facts.Effort) (Target, error) {
	parsed, err := endpoint.Parse(s.Endpoint)
	if err != nil {
		return Target{}, err
	}
	t := Target{Endpoint: parsed, ServerName: s.ServerName, Effort: effort, Plain: s.HTTPPort}
	for _, text := range s.VisitAt {
		at, err := endpoint.ParseVisitAt(text)
		if err != nil {
			return Target{}, err
		}
		t.VisitAt = append(t.VisitAt, at)
	}
	for _, name := range s.References() {
		if t.ServerName == "" && !name.IsAddress() {
			t.ServerName = name.String()
		}
	}
	return t, nil
}

// Call is how each address of the target is visited.
func (t Target) Call() Call {
	c := Call{Scheme: t.Endpoint.Scheme, ServerName: t.serverName(), Effort: t.Effort,
		Web: t.Endpoint.Scheme == "https", Plain: t.Plain}
	if c.Web && c.Plain == 0 && t.Endpoint.Port == 443 && len(t.VisitAt) == 0 {
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

// Plan finds the addresses of the target. The error says why the name leads
// nowhere; it is an *ExhaustedError when nobody could be asked.
func (p *Prober) Plan(ctx context.Context, t Target) (plan Plan, err error) {
	err = p.patiently(ctx, func() error {
		plan, err = p.plan(ctx, t)
		return err
	})
	return plan, err
}

func (p *Prober) plan(ctx context.Context, t Target) (Plan, error) {
	var all []netip.AddrPort
	for _, c := range t.VisitAt {
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
	records := p.network.Records(ctx, e.Host, e.Port)
	plain.Clean(&records)
	return records
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
		return nil, &noAddressError{host}
	}
	for i := range found {
		found[i] = found[i].Unmap()
	}
	return found, nil
}

// Examine plans and makes the visits of one target, address beside address.
// When the context ends, the observations made until then are returned with
// its error. A visit for which this machine has run out of something is made
// again a few times; then its address is told as not visited.
func (p *Prober) Examine(ctx context.Context, t Target) (facts.Endpoint, error) {
	out := facts.Endpoint{Schema: facts.Schema, Endpoint: t.Endpoint.String(), Observations: []facts.Observation{}}
	plan, err := p.Plan(ctx, t)
	switch exhausted := Exhausted(err); {
	case exhausted != nil:
		return out, exhausted
	case err != nil:
		out.ResolveError = Unresolved(err)
		return out, ctx.Err()
	}
	for _, a := range plan.NoRoute {
		out.NoRoute = append(out.NoRoute, a.Addr().String())
	}
	out.DNS = plan.DNS
	observations, failures := make([]*facts.Observation, len(plan.Visit)), make([]error, len(plan.Visit))
	var group sync.WaitGroup
	for i, address := range plan.Visit {
		group.Go(func() {
			failures[i] = p.patiently(ctx, func() error {
				o, err := p.Visit(ctx, address, t.Call())
				if err == nil {
					observations[i] = &o
				}
				return err
			})
		})
	}
	group.Wait()
	var exhausted error
	for i, o := range observations {
		if o != nil {
			out.Observations = append(out.Observations, *o)
		}
		if e := Exhausted(failures[i]); e != nil {
			exhausted, out.Unvisited = e, append(out.Unvisited, plan.Visit[i].String())
		}
	}
	return out, cmp.Or(ctx.Err(), exhausted)
}

// patiently tries again after a pause where this machine has run out of something.
func (p *Prober) patiently(ctx context.Context, do func() error) error {
	for _, pause := range pauses {
		err := do()
		if Exhausted(err) == nil {
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(pause):
		}
	}
	return do()
}
