package probe_test

import (
	"bytes"
	"context"
	"crypto/tls"
	"io"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/limits"
	"nurvik/core/probe"
	"nurvik/core/words"
)

// meter counts the connections that a network opens.
type meter struct {
	mutex      sync.Mutex
	open, most map[netip.Addr]int // by host; the zero address stands for all
	times      []time.Time
}

type metered struct {
	net.Conn
	close func()
}

func (m metered) Close() error { m.close(); return m.Conn.Close() }

// through makes the network's connections go through the meter.
func (m *meter) through(n probe.Network) probe.Network {
	m.open, m.most = map[netip.Addr]int{}, map[netip.Addr]int{}
	count := func(a netip.Addr, change int) {
		m.mutex.Lock()
		defer m.mutex.Unlock()
		for _, host := range []netip.Addr{a, {}} {
			m.open[host] += change
			m.most[host] = max(m.most[host], m.open[host])
		}
		if change > 0 {
			m.times = append(m.times, time.Now())
		}
	}
	dial := n.Dial
	n.Dial = func(ctx context.Context, a netip.AddrPort) (net.Conn, error) {
		count(a.Addr(), 1)
		conn, err := dial(ctx, a)
		if err != nil {
			count(a.Addr(), -1)
			return nil, err
		}
		return metered{conn, sync.OnceFunc(func() { count(a.Addr(), -1) })}, nil
	}
	return n
}

// TestLimitsOfConnections visits two hosts many times at once.
func TestLimitsOfConnections(t *testing.T) {
	address, _ := tlsServer(t, tls.VersionTLS12, tls.VersionTLS13)
	host := address.Addr()
	tests := []struct {
		name    string
		limits  limits.Limits
		perHost int
		all     int
	}{
		{"one at once to a host", limits.Limits{HostAtOnce: 1, HostPerSecond: 1000}, 1, 1},
		{"three at once to a host", limits.Limits{HostAtOnce: 3, HostPerSecond: 1000}, 3, 3},
		{"two at once over all", limits.Limits{HostAtOnce: 10, AtOnce: 2, HostPerSecond: 1000}, 2, 2},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			m := &meter{}
			p := probe.New(m.through(network(nil)), tt.limits.Over(patient))
			var group sync.WaitGroup
			for range 6 {
				group.Go(func() {
					o, err := p.Visit(t.Context(), address, probe.Call{ServerName: name, Effort: facts.Quick})
					assert.NoError(t, err)
					assert.Equal(t, facts.Answered, o.Outcome)
				})
			}
			group.Wait()
			assert.LessOrEqual(t, m.most[host], tt.perHost)
			assert.LessOrEqual(t, m.most[netip.Addr{}], tt.all)
			assert.Zero(t, m.open[netip.Addr{}], "every connection is closed")
		})
	}
}

// queued is a connection whose writes wait for no reader, as the kernel's do not.
type queued struct {
	net.Conn
	writes chan []byte
}

func queue(c net.Conn) queued {
	q := queued{c, make(chan []byte, 100)}
	go func() {
		for b := range q.writes {
			_, _ = c.Write(b)
		}
		_ = c.Close()
	}()
	return q
}

func (q queued) Write(b []byte) (int, error) { q.writes <- bytes.Clone(b); return len(b), nil }
func (q queued) Close() error                { close(q.writes); return nil }

// TestPace counts the connections of a second in time of its own, in which nothing comes late.
func TestPace(t *testing.T) {
	config := &tls.Config{Certificates: []tls.Certificate{certificate(t, "EC", name)}}
	for _, perSecond := range []int{1, 7, 20} {
		t.Run(strconv.Itoa(perSecond)+" a second", func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				piped := network(nil)
				piped.Dial = func(context.Context, netip.AddrPort) (net.Conn, error) {
					near, far := net.Pipe()
					server := queue(far)
					go func() { _ = tls.Server(server, config).Handshake(); _ = server.Close() }()
					return near, nil
				}
				m := &meter{}
				p := probe.New(m.through(piped), limits.Limits{HostPerSecond: perSecond}.Over(patient))
				var group sync.WaitGroup
				for range 6 {
					group.Go(func() {
						o, err := p.Visit(t.Context(), netip.MustParseAddrPort("192.0.2.1:443"),
							probe.Call{ServerName: name, Effort: facts.Quick})
						assert.NoError(t, err)
						assert.Equal(t, facts.Answered, o.Outcome, o.Detail)
					})
				}
				group.Wait()
				require.Len(t, m.times, 18)
				for i := 1; i < len(m.times); i++ { // apart from each other, so in every second, wherever it begins
					assert.GreaterOrEqual(t, m.times[i].Sub(m.times[i-1]), time.Second/time.Duration(perSecond))
				}
			})
		})
	}
}

func TestBusyHost(t *testing.T) {
	var served atomic.Bool
	release := make(chan struct{})
	address := listen(t, func(c net.Conn) { served.Store(true); <-release })
	p := probe.New(network(nil), limits.Limits{HostAtOnce: 1}.Over(patient))
	first := make(chan error, 1)
	go func() {
		_, err := p.Visit(t.Context(), address, probe.Call{Effort: facts.Quick})
		first <- err
	}()
	require.Eventually(t, served.Load, 10*time.Second, time.Millisecond)
	_, err := p.Visit(t.Context(), address, probe.Call{NoQueue: true})
	assert.ErrorIs(t, err, probe.ErrBusy)
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	_, err = p.Visit(ctx, address, probe.Call{})
	assert.ErrorIs(t, err, context.DeadlineExceeded, "who waits can be called off")
	close(release)
	require.NoError(t, <-first)
	_, err = p.Visit(t.Context(), address, probe.Call{NoQueue: true, Effort: facts.Quick})
	assert.NoError(t, err, "the place is free again")
}

// TestWaitingIsNoVisit: a visit whose connections wait for their turn longer than it may last is whole all the same.
func TestWaitingIsNoVisit(t *testing.T) {
	address, _ := tlsServer(t, tls.VersionTLS12, tls.VersionTLS13)
	p := probe.New(network(nil), limits.Limits{HostPerSecond: 1, Visit: time.Second}.Over(patient))
	o, err := p.Visit(t.Context(), address, probe.Call{ServerName: name, Effort: facts.Quick})
	require.NoError(t, err)
	assert.False(t, o.Cut.Given())
	assert.Len(t, o.Connections, 3)
}

func TestLimitsOfAnAnswer(t *testing.T) {
	hello := func(c net.Conn) { _, _ = io.ReadFull(c, make([]byte, 5)) }
	drip := func(begin string) func(c net.Conn) {
		return func(c net.Conn) {
			for _, b := range []byte(begin + strings.Repeat("\x00", 1000)) {
				if _, err := c.Write([]byte{b}); err != nil {
					return
				}
				time.Sleep(20 * time.Millisecond)
			}
		}
	}
	records := func(c net.Conn) {
		hello(c)
		for range 100_000 {
			if _, err := c.Write([]byte{20, 3, 3, 0, 1, 1}); err != nil {
				return
			}
		}
	}
	certificates, _ := tlsServer(t, tls.VersionTLS12, tls.VersionTLS12)
	tests := []struct {
		name    string
		address netip.AddrPort
		scheme  string
		limits  limits.Limits
		outcome facts.Outcome
		detail  string
	}{
		{"a byte now and then", listen(t, drip("\x16\x03\x03\x40\x00")), "", limits.Limits{}, facts.TooSlow,
			"bytes of its answer came in 300ms"},
		{"a dialogue of a byte now and then", listen(t, drip("220 ")), "smtp", limits.Limits{}, facts.TooSlow,
			"dialogue came in 300ms"},
		{"a dialogue that stops", listen(t, func(c net.Conn) {
			_, _ = io.WriteString(c, "220 here\r\n")
			_,
				_ = io.Copy(io.Discard, c)
		}), "smtp", limits.Limits{}, facts.Timeout, "did not go on in time"},
		{"records", listen(t, records), "", limits.Limits{Handshake: 20 * time.Second}, facts.TooMuch,
			"512 records came"},
		{"a limit of records of one's own", listen(t, records), "",
			limits.Limits{Handshake: 20 * time.Second, Records: 7}, facts.TooMuch, "7 records came"},
		{"a limit of bytes of one's own", certificates, "", limits.Limits{Handshake: 20 * time.Second, Bytes: 80},
			facts.TooMuch, "80 bytes came"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			o, err := probe.New(network(nil), tt.limits.Over(impatient)).Visit(t.Context(), tt.address,
				probe.Call{Scheme: tt.scheme})
			require.NoError(t, err)
			assert.Equal(t, tt.outcome, o.Outcome)
			assert.Contains(t, words.Of(o.Detail), tt.detail)
		})
	}
}

// TestCutVisit meets an endpoint that answers, but too slowly for all questions.
func TestCutVisit(t *testing.T) {
	config := &tls.Config{Certificates: []tls.Certificate{certificate(t, "EC", name)}}
	address := listen(t, func(c net.Conn) { time.Sleep(100 * time.Millisecond); _ = tls.Server(c, config).Handshake() })
	o, err := probe.New(network(nil), limits.Limits{Visit: 500 * time.Millisecond}.Over(patient)).Visit(t.Context(),
		address, probe.Call{ServerName: name})
	require.NoError(t, err)
	assert.Equal(t, facts.Answered, o.Outcome, o.Detail)
	assert.Equal(t, []string{"500ms"}, o.Cut.Args[:1])
	assert.NotEmpty(t, o.Certificates, "what was learnt is kept")
}
