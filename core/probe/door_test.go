package probe_test

import (
	"bufio"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/limits"
	"nurvik/core/probe"
	"nurvik/core/words"
)

// door lets connections in as allowed says, which is told how many there were before and when the last ones came.
func door(serve func(net.Conn), away string, allowed func(n int, recent []time.Time) bool) func(net.Conn) {
	var mutex sync.Mutex
	var times []time.Time
	return func(c net.Conn) {
		mutex.Lock()
		open := allowed(len(times), times)
		times = append(times, time.Now())
		mutex.Unlock()
		if !open {
			_, _ = io.WriteString(c, away)
			return
		}
		serve(c)
	}
}

func first(most int) func(int, []time.Time) bool {
	return func(n int, _ []time.Time) bool { return n < most }
}

// TestDoors: a server that closes connections has not refused what was asked on them.
func TestDoors(t *testing.T) {
	t.Cleanup(probe.Hurry())
	config := &tls.Config{Certificates: []tls.Certificate{certificate(t, "RSA", name)}, MinVersion: tls.VersionTLS10,
		CipherSuites: []uint16{0xc02f, 0xc030, 0xc013}}
	serve := func(c net.Conn) { _ = tls.Server(c, config).Handshake() }
	mail := script(config, "220 a\r\n", "250 STARTTLS\r\n", "220 go\r\n")
	visit := func(t *testing.T, serve func(net.Conn), scheme string) facts.Observation {
		o, err := probe.New(network(nil), limits.Limits{HostPerSecond: 1000}.Over(patient)).Visit(t.Context(),
			listen(t, serve), probe.Call{ServerName: name, Scheme: scheme})
		require.NoError(t, err)
		return o
	}
	whole := visit(t, serve, "https")
	require.Empty(t, whole.Cut)
	for _, n := range []int{1, 3, 6, 10, 17} {
		t.Run(fmt.Sprint("closed after ", n), func(t *testing.T) {
			o := visit(t, door(serve, "", first(n)), "https")
			assert.Equal(t, facts.Answered, o.Outcome)
			assert.NotEmpty(t, o.Certificates)
			assert.Equal(t, facts.StoppedAnswering, o.Cut.Code, o.Cut)
			incomplete := o.Groups == nil || o.Groups.Cut.Given() || o.Settings.SignatureSchemesCut.Given()
			for _, v := range o.Versions {
				incomplete = incomplete || v.Cut.Given() || v.Detail.Code == facts.StoppedAnswering
				if v.Answer == facts.Declined {
					assert.Equal(t, facts.Declined, versionOf(whole, v.Name).Answer, "%s is not called declined",
						v.Name)
				}
			}
			assert.True(t, incomplete, "some list says so")
			assert.Equal(t, facts.Yes, o.Settings.ToleratesUnknown, "it is no intolerance")
		})
	}
	t.Run("closed for a while", func(t *testing.T) {
		o := visit(t, door(serve, "", func(_ int, recent []time.Time) bool {
			return len(recent) < 8 || time.Since(recent[len(recent)-8]) > 100*time.Millisecond
		}), "https")
		assert.Empty(t, o.Cut)
		for _, v := range whole.Versions {
			assert.ElementsMatch(t, v.Suites, versionOf(o, v.Name).Suites, "what was refused then was asked again")
		}
		assert.ElementsMatch(t, whole.Groups.Accepted, o.Groups.Accepted)
		assert.ElementsMatch(t, whole.Settings.SignatureSchemes, o.Settings.SignatureSchemes)
	})
	t.Run("busy after three", func(t *testing.T) {
		o := visit(t, door(mail, "421 4.7.0 too\x1b many connections\r\n", first(3)), "smtp")
		assert.Equal(t, facts.Answered, o.Outcome)
		assert.Contains(t, words.Of(o.Cut), "421 4.7.0 too")
		assert.NotContains(t, words.Of(o.Cut), "\x1b")
	})
	t.Run("busy at once", func(t *testing.T) {
		o := visit(t, door(mail, "421 come back later\r\n", first(0)), "smtp")
		assert.Equal(t, facts.Busy, o.Outcome)
		assert.Len(t, o.Connections, 1)
	})
	t.Run("the first one is lost", func(t *testing.T) {
		o := visit(t, door(serve, "", func(n int, _ []time.Time) bool { return n > 0 }), "https")
		assert.Equal(t, facts.Yes, o.Settings.ToleratesUnknown)
		assert.Empty(t, o.Cut)
	})
}

// TestWebBeside: a server that never answers an HTTP request holds nothing else up, and one of HTTP/2 alone is read.
func TestWebBeside(t *testing.T) {
	config := &tls.Config{Certificates: []tls.Certificate{certificate(t, "EC", name)}}
	started := time.Now()
	address := listen(t, func(c net.Conn) {
		server := tls.Server(c, config)
		if server.Handshake() == nil {
			_, _ = io.Copy(io.Discard, bufio.NewReader(server))
		}
	})
	o, err := probe.New(network(nil), limits.Limits{HostPerSecond: 1000, Web: time.Second}.Over(patient)).Visit(
		t.Context(), address, probe.Call{ServerName: name, Web: true})
	require.NoError(t, err)
	assert.Nil(t, o.HTTP)
	assert.Greater(t, len(o.Connections), 10)
	assert.Equal(t, facts.ForNewest, o.Connections[0].Purpose.Code)
	assert.Greater(t, o.Connections[0].Duration, time.Second, "it was asked")
	asked := time.Duration(0)
	for _, c := range o.Connections {
		asked += c.Duration
	}
	assert.Less(t, time.Since(started), 10*time.Second)
	assert.Greater(t, asked, o.Connections[0].Duration)
}
