package probe

import (
	"context"
	"net"
	"net/netip"
	"nurvik/core/facts"
	"nurvik/core/limits"
	"nurvik/core/rescue"
	"time"
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
	// Report takes defects of the visit itself to the log; nil drops them.
	Report rescue.Report
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
