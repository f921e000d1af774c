package probe_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"net/netip"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/endpoint"
	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/limits"
	"nurvik/core/probe"
	"nurvik/core/words"
)

// network is this machine's, with names and routes of the test's own.
func network(names map[string][]string, noRoute ...string) probe.Network {
	return probe.Network{
		Dial: func(ctx context.Context, a netip.AddrPort) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "tcp", a.String())
		},
		Lookup: func(_ context.Context, host string) ([]netip.Addr, error) {
			var out []netip.Addr
			for _, a := range names[host] {
				out = append(out, netip.MustParseAddr(a))
			}
			if out == nil {
				return nil, errors.New("the name server knows no address of " + host)
			}
			return out, nil
		},
		HasRoute: func(a netip.Addr) bool {
			for _, n := range noRoute {
				if a.String() == n {
					return false
				}
			}
			return true
		},
		Now: time.Now,
	}
}

// patient is for peers that answer, however busy the machine; impatient for those that never do.
var (
	patient = limits.Limits{Connect: 20 * time.Second, Handshake: 20 * time.Second, Visit: 60 * time.Second,
		HostPerSecond: 1000, HostAtOnce: 10}
	impatient = limits.Limits{Connect: 20 * time.Second, Handshake: 300 * time.Millisecond,
		Dialogue: 300 * time.Millisecond, Visit: 20 * time.Second}
)

// listen serves each connection with the function and returns the address.
func listen(t *testing.T, serve func(net.Conn)) netip.AddrPort {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				serve(conn)
			}()
		}
	}()
	return netip.MustParseAddrPort(listener.Addr().String())
}

func tlsServer(t *testing.T, minimum, maximum uint16) (netip.AddrPort, []byte) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	spki, err := forge.PublicInfo(key)
	require.NoError(t, err)
	der, err := forge.Issue(nil, key, forge.Template{Name: "tides.tarnholm.example", SPKI: spki,
		From: time.Unix(1.7e9, 0), Until: time.Unix(1.9e9, 0)})
	require.NoError(t, err)
	config := &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key,
		OCSPStaple: []byte("staple")}}, MinVersion: minimum, MaxVersion: maximum}
	return listen(t, func(c net.Conn) { _ = tls.Server(c, config).Handshake() }), der
}

func answers(o facts.Observation) string {
	var out []string
	for _, v := range o.Versions {
		out = append(out, v.Name+" "+string(v.Answer))
	}
	return strings.Join(out, ", ")
}

func TestVersionsAndCertificates(t *testing.T) {
	tests := []struct {
		name             string
		minimum, maximum uint16
		want             string
		connections      int
	}{
		{"1.2 and 1.3", tls.VersionTLS12, tls.VersionTLS13,
			"TLS 1.3 accepted, TLS 1.2 accepted, TLS 1.1 declined, TLS 1.0 declined, SSL 3.0 declined", 3},
		{"1.3 only", tls.VersionTLS13, tls.VersionTLS13,
			"TLS 1.3 accepted, TLS 1.2 declined, TLS 1.1 declined, TLS 1.0 declined, SSL 3.0 declined", 2},
		{"all", tls.VersionTLS10, tls.VersionTLS13,
			"TLS 1.3 accepted, TLS 1.2 accepted, TLS 1.1 accepted, TLS 1.0 accepted, SSL 3.0 declined", 5},
		{"1.0 only: one answer settles all newer ones", tls.VersionTLS10, tls.VersionTLS10,
			"TLS 1.3 declined, TLS 1.2 declined, TLS 1.1 declined, TLS 1.0 accepted, SSL 3.0 declined", 2},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			address, der := tlsServer(t, tt.minimum, tt.maximum)
			o, err := probe.New(network(nil), patient).Visit(t.Context(), address,
				probe.Call{ServerName: "tides.tarnholm.example", Effort: facts.Quick})
			require.NoError(t, err)
			assert.Equal(t, facts.Answered, o.Outcome)
			assert.Equal(t, tt.want, answers(o))
			assert.Equal(t, [][]byte{der}, o.Certificates)
			assert.Equal(t, "staple", string(o.Staple))
			assert.Len(t, o.Connections, tt.connections, "a connection that teaches nothing is not made")
			for _, c := range o.Connections {
				assert.Positive(t, c.Sent, c.Purpose)
				assert.Positive(t, c.Received, c.Purpose)
			}
		})
	}
}

func TestOutcomes(t *testing.T) {
	closed := listen(t, func(net.Conn) {})
	hello := func(c net.Conn) { _, _ = io.ReadFull(c, make([]byte, 5)) }
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	refused := netip.MustParseAddrPort(free.Addr().String())
	require.NoError(t, free.Close())
	tests := []struct {
		name        string
		address     netip.AddrPort
		outcome     facts.Outcome
		detail      string
		connections int
	}{
		{"refused", refused, facts.Refused, "nothing listens", 4},
		{"silent", listen(t, func(c net.Conn) { _, _ = io.Copy(io.Discard, c) }), facts.Timeout, "no answer in time",
			3},
		{"closes at once", closed, facts.Reset, "closed without an answer", 6},
		{"resets", listen(t, func(c net.Conn) { hello(c); _ = c.(*net.TCPConn).SetLinger(0) }), facts.Reset,
			"closed without an answer", 6},
		{"plain HTTP", listen(t, func(c net.Conn) {
			hello(c)
			_,
				_ = io.WriteString(c, "HTTP/1.1 400 Bad Request\r\n\r\n")
		}), facts.NotTLS, `"HTTP/"`, 1},
		{"nonsense in records", listen(t, func(c net.Conn) {
			hello(c)
			_,
				_ = c.Write([]byte{22, 3, 3, 0, 4, 2, 0, 0, 0})
		}), facts.BadMessage, "cut off", 6},
		{"only alerts", listen(t, func(c net.Conn) { hello(c); _, _ = c.Write([]byte{21, 3, 3, 0, 2, 2, 40}) }),
			facts.Answered, "", 6},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			deadlines := patient
			if tt.outcome == facts.Timeout {
				deadlines = impatient
			}
			o, err := probe.New(network(nil), deadlines).Visit(t.Context(), tt.address, probe.Call{})
			require.NoError(t, err)
			assert.Equal(t, tt.outcome, o.Outcome)
			assert.Contains(t, words.Of(o.Detail), tt.detail)
			assert.Empty(t, o.Certificates)
			assert.LessOrEqual(t, len(o.Connections), tt.connections)
		})
	}
}

// TestUnansweredVersionIsAskedAgain meets an endpoint that loses its first hello.
func TestUnansweredVersionIsAskedAgain(t *testing.T) {
	address, _ := tlsServer(t, tls.VersionTLS12, tls.VersionTLS13)
	var lost atomic.Bool
	n := network(nil)
	dial := n.Dial
	silent := listen(t, func(c net.Conn) { _, _ = io.Copy(io.Discard, c) })
	n.Dial = func(ctx context.Context, a netip.AddrPort) (net.Conn, error) {
		if lost.CompareAndSwap(false, true) {
			a = silent
		}
		return dial(ctx, a)
	}
	deadlines := patient
	deadlines.Handshake = 2 * time.Second
	o, err := probe.New(n, deadlines).Visit(t.Context(), address,
		probe.Call{ServerName: "tides.tarnholm.example", Effort: facts.Quick})
	require.NoError(t, err)
	assert.Equal(t, "TLS 1.3 accepted, TLS 1.2 accepted, TLS 1.1 declined, TLS 1.0 declined, SSL 3.0 declined",
		answers(o))
	assert.Len(t, o.Connections, 5)
	assert.Equal(t, facts.Yes, o.Settings.ToleratesUnknown, "one lost hello is no intolerance")
	assert.NotEmpty(t, o.Certificates)
}

// TestVisitHasADeadline meets a peer that answers a byte at a time, for ever.
func TestVisitHasADeadline(t *testing.T) {
	drip := listen(t, func(c net.Conn) {
		for _, b := range append([]byte{22, 3, 3, 0x40, 0}, make([]byte, 1000)...) {
			if _, err := c.Write([]byte{b}); err != nil {
				return
			}
			time.Sleep(20 * time.Millisecond)
		}
	})
	started := time.Now()
	_, err := probe.New(network(nil), limits.Limits{Connect: time.Second, Handshake: 200 * time.Millisecond,
		Visit: 500 * time.Millisecond}).Visit(t.Context(), drip, probe.Call{})
	require.NoError(t, err)
	assert.Less(t, time.Since(started), 15*time.Second, "at this pace the answer would take twenty seconds a hello")
}

func TestCancelledVisitHasNoResult(t *testing.T) {
	silent := listen(t, func(c net.Conn) { _, _ = io.Copy(io.Discard, c) })
	ctx, cancel := context.WithCancel(t.Context())
	time.AfterFunc(50*time.Millisecond, cancel)
	started := time.Now()
	_, err := probe.New(network(nil), limits.Limits{}).Visit(ctx, silent, probe.Call{})
	assert.ErrorIs(t, err, context.Canceled)
	assert.Less(t, time.Since(started), limits.Defaults.Handshake, "it does not wait for the deadline")
}

func target(t *testing.T, text string, connect ...string) probe.Target {
	t.Helper()
	e, err := endpoint.Parse(text)
	require.NoError(t, err)
	out := probe.Target{Endpoint: e}
	for _, c := range connect {
		parsed, err := endpoint.ParseVisitAt(c)
		require.NoError(t, err)
		out.VisitAt = append(out.VisitAt, parsed)
	}
	return out
}

func TestPlan(t *testing.T) {
	p := probe.New(network(map[string][]string{"quays.tarnholm.example": {"192.0.2.9", "2001:db8::9", "192.0.2.8",
		"192.0.2.9", "::ffff:192.0.2.8"}}, "2001:db8::9"), patient)
	tests := []struct {
		name    string
		target  probe.Target
		visit   string
		noRoute string
	}{
		{"all addresses of a name, each once", target(t, "quays.tarnholm.example"), "192.0.2.8:443 192.0.2.9:443",
			"[2001:db8::9]:443"},
		{"an address is itself", target(t, "192.0.2.1:8443"), "192.0.2.1:8443", ""},
		{"connect takes the place of the name's addresses",
			target(t, "quays.tarnholm.example", "192.0.2.1:99", "192.0.2.2"), "192.0.2.1:99 192.0.2.2:443", ""},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			plan, err := p.Plan(t.Context(), tt.target)
			require.NoError(t, err)
			assert.Equal(t, tt.visit, list(plan.Visit))
			assert.Equal(t, tt.noRoute, list(plan.NoRoute))
		})
	}
	_, err := p.Plan(t.Context(), target(t, "unlisted.tarnholm.example"))
	assert.ErrorContains(t, err, "knows no address")
}

func list(addresses []netip.AddrPort) string {
	var out []string
	for _, a := range addresses {
		out = append(out, a.String())
	}
	return strings.Join(out, " ")
}

func TestExamine(t *testing.T) {
	good, der := tlsServer(t, tls.VersionTLS12, tls.VersionTLS13)
	p := probe.New(network(map[string][]string{}), patient)
	e, err := p.Examine(t.Context(), target(t, "tides.tarnholm.example", good.String(), "127.0.0.1:1"))
	require.NoError(t, err)
	require.Len(t, e.Observations, 2)
	assert.Equal(t, facts.Refused, e.Observations[0].Outcome, "the order is that of the addresses")
	assert.Equal(t, [][]byte{der}, e.Observations[1].Certificates)
	assert.Equal(t, "tides.tarnholm.example", e.Observations[1].ServerName)

	e, err = p.Examine(t.Context(), target(t, "unlisted.tarnholm.example"))
	require.NoError(t, err)
	assert.True(t, e.ResolveError.Given())
	assert.Empty(t, e.Observations)
}
