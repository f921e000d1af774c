package probe_test

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"sync/atomic"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/endpoint"
	"nurvik/core/facts"
	"nurvik/core/probe"
	"nurvik/core/rescue"
	"nurvik/core/words"
)

// refusing is a network on which dialling fails with the system's error, the first so many times.
func refusing(err error, times int64) probe.Network {
	n := network(map[string][]string{"tides.tarnholm.example": {"127.0.0.1"}})
	var dialled atomic.Int64
	n.Dial = func(context.Context, netip.AddrPort) (net.Conn, error) {
		if dialled.Add(1) > times {
			return nil, &net.OpError{Op: "dial", Err: os.NewSyscallError("connect", syscall.ECONNREFUSED)}
		}
		return nil, &net.OpError{Op: "dial", Err: os.NewSyscallError("socket", err)}
	}
	return n
}

// TestExhausted: what this machine has run out of is no property of an endpoint.
func TestExhausted(t *testing.T) {
	defer probe.Hurry()()
	at, err := endpoint.Parse("tides.tarnholm.example:443")
	require.NoError(t, err)
	target := probe.Target{Endpoint: at}
	for err, words := range map[error]string{syscall.EMFILE: "file descriptors", syscall.ENFILE: "file descriptors",
		syscall.EADDRNOTAVAIL: "local ports", syscall.ENOMEM: "memory", syscall.ENOBUFS: "memory"} {
		t.Run(err.Error(), func(t *testing.T) {
			observed, failure := probe.New(refusing(err, 1000), patient).Examine(t.Context(), target)
			var exhausted *probe.ExhaustedError
			require.ErrorAs(t, failure, &exhausted)
			assert.ErrorContains(t, failure, words)
			assert.Empty(t, observed.Observations)
			assert.Equal(t, []string{"127.0.0.1:443"}, observed.Unvisited)
			assert.True(t, observed.Undecided())
		})
	}
	t.Run("it passes", func(t *testing.T) {
		observed, err := probe.New(refusing(syscall.EMFILE, 2), patient).Examine(t.Context(), target)
		require.NoError(t, err)
		require.Len(t, observed.Observations, 1)
		assert.Equal(t, facts.Refused, observed.Observations[0].Outcome, "the endpoint's own answer")
	})
	t.Run("of the name server's connection too", func(t *testing.T) {
		n := refusing(syscall.EMFILE, 0)
		n.Lookup = func(context.Context, string) ([]netip.Addr, error) {
			return nil, fmt.Errorf("lookup: %w", syscall.EMFILE)
		}
		observed, err := probe.New(n, patient).Examine(t.Context(), target)
		assert.NotNil(t, probe.Exhausted(err))
		assert.False(t, observed.ResolveError.Given(), "nothing is known of the name")
	})
	assert.Nil(t, probe.Exhausted(errors.New("something else")))
}

// TestDefect: a visit that meets a defect of ours is one failed examination.
func TestDefect(t *testing.T) {
	var told []rescue.Defect
	n := network(nil)
	n.Dial = func(context.Context, netip.AddrPort) (net.Conn, error) { panic("no such connection") }
	n.Report = func(d rescue.Defect) { told = append(told, d) }
	o, err := probe.New(n, patient).Visit(t.Context(), netip.MustParseAddrPort("192.0.2.7:443"), probe.Call{})
	require.NoError(t, err)
	assert.Equal(t, facts.ExaminationFailed, o.Outcome)
	require.Len(t, told, 1)
	assert.Contains(t, words.Of(o.Detail), told[0].Reference)
}
