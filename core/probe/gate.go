package probe

import (
	"context"
	"net/netip"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"nurvik/core/limits"
)

// maxLookups is how many names are looked up at once.
const maxLookups = 64

// slack is the distance between two connections to a host, in hundredths of its
// share of a second: with none saved up, the limit holds in every second,
// wherever it begins, and a little more room makes up for late timers.
const slack = 105

// gate lets connections through as the limits allow.
type gate struct {
	limits  limits.Limits
	now     func() time.Time
	all     chan struct{} // one place for each connection
	lookups chan struct{}

	mutex sync.Mutex
	hosts map[netip.Addr]*hostGate
	sweep int // number of hosts at which those that rest are forgotten
}

// hostGate is the gate of one host. A visit has one connection at a time, so
// places for visits are places for connections.
type hostGate struct {
	places chan struct{}
	pace   *rate.Limiter
	users  int // visits that have a place or wait for one
}

func newGate(l limits.Limits, now func() time.Time) *gate {
	return &gate{limits: l, now: now, all: make(chan struct{}, l.AtOnce), lookups: make(chan struct{}, maxLookups),
		hosts: map[netip.Addr]*hostGate{}, sweep: 1024}
}

// enter waits for a place at the host. With wait false it only takes a free
// one, and returns nil where there is none.
func (g *gate) enter(ctx context.Context, address netip.Addr, wait bool) (h *hostGate, leave func(), err error) {
	g.mutex.Lock()
	h = g.hosts[address]
	if h == nil {
		h = &hostGate{places: make(chan struct{}, g.limits.HostAtOnce),
			pace: rate.NewLimiter(rate.Every(slack*time.Second/time.Duration(100*g.limits.HostPerSecond)), 1)}
		g.hosts[address] = h
	}
	h.users++
	g.mutex.Unlock()
	left := func() {
		g.mutex.Lock()
		defer g.mutex.Unlock()
		h.users--
		g.forget()
	}
	if !wait {
		select {
		case h.places <- struct{}{}:
		default:
			left()
			return nil, nil, nil
		}
		return h, func() { <-h.places; left() }, nil
	}
	select {
	case h.places <- struct{}{}:
		return h, func() { <-h.places; left() }, nil
	case <-ctx.Done():
		left()
		return nil, nil, ctx.Err()
	}
}

// forget drops hosts that nobody visits and whose pace has nothing to remember.
func (g *gate) forget() {
	if len(g.hosts) < g.sweep {
		return
	}
	for address, h := range g.hosts {
		if h.users == 0 && h.pace.TokensAt(g.now()) >= 1 {
			delete(g.hosts, address)
		}
	}
	g.sweep = 2*len(g.hosts) + 1024
}

// pass waits until the host may be connected to once more, and for a place among all connections.
func (g *gate) pass(ctx context.Context, h *hostGate) error {
	now := g.now()
	if delay := h.pace.ReserveN(now, 1).DelayFrom(now); delay > 0 {
		timer := time.NewTimer(delay)
		defer timer.Stop()
		select {
		case <-timer.C:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	select {
	case g.all <- struct{}{}:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// passed gives the place among all connections back.
func (g *gate) passed() { <-g.all }

// stopwatch ends a context when the time is up that a visit spends outside of queues.
type stopwatch struct {
	timer   *time.Timer
	now     func() time.Time
	left    time.Duration
	started time.Time
}

func startStopwatch(d time.Duration, now func() time.Time, end func()) *stopwatch {
	return &stopwatch{timer: time.AfterFunc(d, end), now: now, left: d, started: now()}
}

// pause stops the time; it reports whether there was any left.
func (s *stopwatch) pause() bool {
	s.left -= s.now().Sub(s.started)
	return s.timer.Stop()
}

func (s *stopwatch) resume() {
	s.started = s.now()
	s.timer.Reset(max(s.left, 0))
}
