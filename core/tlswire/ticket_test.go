package tlswire_test

import (
	"bytes"
	"crypto/rand"
	"crypto/tls"
	"io"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/tlswire"
)

// TestSessionTickets goes on with sessions of the standard library's server.
func TestSessionTickets(t *testing.T) {
	hash384 := []tlswire.Suite{0x1302}
	tests := []struct {
		name    string
		change  func(first *tlswire.SessionTicket)
		suites  []tlswire.Suite // of the second hello; nil for those of the first
		resumed bool
	}{
		{"as given", func(*tlswire.SessionTicket) {}, nil, true},
		{"another suite of the same hash", func(*tlswire.SessionTicket) {}, []tlswire.Suite{0x1303}, true},
		{"a suite of another hash begins anew", func(*tlswire.SessionTicket) {}, hash384, false},
		{"a ticket that nobody gave begins anew", func(s *tlswire.SessionTicket) { s.Identity = bytes.Repeat([]byte{9}, 90) }, nil, false},
	}
	configs := map[string]*tls.Config{"": {CurvePreferences: []tls.CurveID{tls.X25519}}, " after a retry": {CurvePreferences: []tls.CurveID{tls.CurveP384}}}
	for suffix, config := range configs {
		config.Certificates, config.MinVersion = []tls.Certificate{identity(t, "EC")}, tls.VersionTLS13
		for _, tt := range tests {
			tt.name += suffix
			t.Run(tt.name, func(t *testing.T) {
				session := func(suites []tlswire.Suite, with *tlswire.SessionTicket) (*tlswire.Session, *tlswire.SessionTicket) {
					listener, err := net.Listen("tcp", "127.0.0.1:0")
					require.NoError(t, err)
					defer listener.Close()
					go func() {
						conn, err := listener.Accept()
						if err != nil {
							return
						}
						if server := tls.Server(conn, config); server.Handshake() == nil {
							_, _ = io.WriteString(server, "a word beside the ticket")
						}
					}()
					near, err := net.Dial("tcp", listener.Addr().String())
					require.NoError(t, err)
					defer near.Close()
					require.NoError(t, near.SetDeadline(time.Now().Add(10*time.Second)))
					h := hello(t, tlswire.TLS13)
					h.Suites, h.Resume, h.Shares = suites, with, nil
					s, err := tlswire.Handshake(near, h, tlswire.Options{Random: rand.Reader, Shares: []tlswire.Group{tlswire.X25519}})
					require.NoError(t, err)
					require.True(t, s.Finished, s.Unfinished)
					ticket, err := s.SessionTicket()
					require.NoError(t, err)
					return s, ticket
				}
				usual := []tlswire.Suite{0x1301}
				first, ticket := session(usual, nil)
				assert.False(t, first.Resumed)
				tt.change(ticket)
				if tt.suites == nil {
					tt.suites = usual
				}
				second, _ := session(tt.suites, ticket)
				assert.Equal(t, tt.resumed, second.Resumed)
				assert.Equal(t, tt.resumed, len(second.Chain.Certificates) == 0, "a session that goes on shows no certificate")
			})
		}
	}
	t.Run("a session of TLS 1.2 gives none", func(t *testing.T) {
		_, err := (&tlswire.Session{}).SessionTicket()
		assert.ErrorIs(t, err, tlswire.ErrNoTickets)
	})
}
