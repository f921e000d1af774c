package service

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"time"

	"nurvik/core/endpoint"
	"nurvik/core/facts"
	"nurvik/core/plain"
	"nurvik/core/policy"
	"nurvik/core/probe"
	"nurvik/core/proposal"
	"nurvik/core/rescue"
	"nurvik/internal/inquiry"
	"nurvik/internal/outbound"
	"nurvik/internal/service/jobs"
	"nurvik/internal/service/store"
	"nurvik/internal/vantage"
)

// settled is what is told in words, made ready.
type settled struct {
	network             probe.Network
	networks, visitable []outbound.Network
	searchable          proposal.Ranges
	effort              facts.Effort
}

// check reads what can be told wrongly, before anything begins.
func (c Config) check() (out settled, err error) {
	if out.network, err = vantage.Network(c.Resolver); err != nil {
		return out, fmt.Errorf("--resolver: %w", err)
	}
	if out.networks, err = outbound.ParseNetworks(c.Networks); err != nil {
		return out, fmt.Errorf("--allow-network: %w", err)
	}
	if out.visitable, err = outbound.ParseNetworks(c.Visitable); err != nil {
		return out, fmt.Errorf("--allow-visit: %w", err)
	}
	if out.searchable, err = c.searchable(); err != nil {
		return out, fmt.Errorf("--search-network: %w", err)
	}
	if out.effort, err = facts.ParseEffort(c.Effort); err != nil {
		return out, fmt.Errorf("--effort: %w", err)
	}
	if c.Vantage != "" {
		if err := endpoint.CheckVantage(c.Vantage); err != nil {
			return out, fmt.Errorf("--vantage: %w", err)
		}
	}
	if c.KeepDays < 0 {
		return out, errors.New("--keep-days is a number of days, or 0 for ever")
	}
	return out, c.Limits.Check()
}

// searchedPorts are those of a network that names none.
var searchedPorts = []uint16{25, 443, 465, 587, 636, 993, 995, 8443}

// searchable are the networks that may be searched.
func (c Config) searchable() (out proposal.Ranges, err error) {
	networks, err := outbound.ParseNetworks(c.Searchable)
	for _, n := range networks {
		if len(n.Ports) == 0 {
			n.Ports = searchedPorts
		}
		slices.Sort(n.Ports)
		out = append(out, proposal.Range{Network: n.Prefix, Ports: slices.Compact(n.Ports)})
	}
	return out, errors.Join(err, out.Apart())
}

// visitable says which of the networks that may be searched cannot be visited.
func visitable(searchable proposal.Ranges, gate *outbound.Gate) error {
	for _, r := range searchable {
		if err := gate.Check(netip.AddrPortFrom(r.Network.Addr(), r.Ports[0])); err != nil {
			return fmt.Errorf("--search-network %s: %w", r.Network, err)
		}
	}
	return nil
}

// report takes defects of ours to the log.
func (c Config) report() rescue.Report {
	return func(d rescue.Defect) {
		c.Log.Error("a defect of Nurvik itself ended an examination", "reference", d.Reference, "target", d.Target,
			"cause", plain.Text(d.Cause), "stack", plain.Lines(d.Stack))
	}
}

// queue makes the queue of jobs; what it is and what it counts is in the options.
func (c Config) queue(ctx context.Context, s *store.Store, told settled, o jobs.Options) (*jobs.Queue, error) {
	report := c.report()
	o.Network, o.Report, o.Now, o.Log = told.network, report, s.Clock.Stamp, c.Log
	o.Network.Report, o.Network.Dial = report, gated(o.Gate, told.network.Dial)
	o.Instance, o.Vantage, o.Visits, o.Effort = c.Instance, c.Vantage, c.Visits, told.effort
	o.Limits = vantage.Afford(c.Limits)
	o.Desk = inquiry.New(inquiry.Options{Revocation: !c.Silent, Issuers: c.Issuers, Networks: told.networks,
		Lookup: told.network.Lookup, Now: o.Now, Report: report,
		Shelf: s.Shelf(c.Log)})
	if err := s.SeedPolicies(ctx, policy.Names(), o.Now()); err != nil {
		return nil, err
	}
	return jobs.Open(ctx, s, o)
}

// Elsewhere is a vantage at which some addresses lead to other servers.
type Elsewhere struct {
	Vantage string
	Leads   map[netip.AddrPort]netip.AddrPort
}

// elsewhere works at one more vantage until the end that it returns.
func (c Config) elsewhere(ctx context.Context, s *store.Store, e Elsewhere, lost context.CancelCauseFunc) (end func(),
	err error) {
	c.Instance, c.Vantage = e.Vantage, e.Vantage
	told, err := c.check()
	if err != nil {
		return nil, err
	}
	dial := told.network.Dial
	told.network.Dial = func(ctx context.Context, at netip.AddrPort) (net.Conn, error) {
		if other, led := e.Leads[at]; led {
			at = other
		}
		return dial(ctx, at)
	}
	queue, err := c.queue(ctx, s, told, jobs.Options{Kind: "work",
		Gate: outbound.Visits(netip.AddrPort{}, told.visitable)})
	if err != nil {
		return nil, err
	}
	if err := queue.Start(ctx, func(err error) { lost(err) }); err != nil {
		return nil, err
	}
	return func() {
		stop, cancel := context.WithTimeout(ctx, stopTime)
		defer cancel()
		if err := queue.Stop(stop); err != nil {
			c.Log.Warn("a vantage did not stop in time", "vantage", e.Vantage, "error", err)
		}
	}, nil
}

// drainTime is how long a worker lets visits end when it is stopped. What has not ended then goes on elsewhere.
const drainTime = 30 * time.Second

// Work takes jobs of the service whose database this is, and serves nobody, until the context ends. Ready is called
// once it works.
func Work(ctx context.Context, c Config, ready func()) (err error) {
	told, err := c.check()
	if err != nil {
		return err
	}
	switch {
	case c.Through != "" && c.Database != "":
		return errors.New("give --database, or --through where the database cannot be reached, and not both")
	case c.Through != "":
		return c.workThrough(ctx, told, ready)
	case c.Database == "":
		return errors.New("--database names the PostgreSQL database that the service works on: " +
			"start \"nurvikd serve\" with the same one; or give --through with the address of the service")
	}
	s, err := store.Open(ctx, c.Database, nil)
	if err != nil {
		return err
	}
	defer s.Close()
	queue, err := c.queue(ctx, s, told, jobs.Options{Kind: "work", Drain: drainTime,
		Gate: outbound.Visits(netip.AddrPort{}, told.visitable)})
	if err != nil {
		return err
	}
	working, lost := context.WithCancelCause(ctx)
	defer lost(nil)
	if err := queue.Start(context.WithoutCancel(ctx), func(err error) { lost(err) }); err != nil {
		return err
	}
	ready()
	<-working.Done()
	if ctx.Err() == nil { // it was not asked to stop
		err = context.Cause(working)
	}
	stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), drainTime+stopTime)
	defer cancel()
	return errors.Join(err, queue.Stop(stop))
}
