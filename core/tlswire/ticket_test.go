package tlswire_test

import (
	"bytes"
	"crypto/rand"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"io"
	"net"
	"slices"
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
		{"a ticket that nobody gave begins anew", func(s *tlswire.SessionTicket) {
			s.Identity = bytes.Repeat([]byte{9},
				90)
		}, nil, false},
	}
	configs := map[string]*tls.Config{"": {CurvePreferences: []tls.CurveID{tls.X25519}},
		" after a retry": {CurvePreferences: []tls.CurveID{tls.CurveP384}}}
	for suffix, config := range configs {
		config.Certificates, config.MinVersion = []tls.Certificate{identity(t, "EC")}, tls.VersionTLS13
		for _, tt := range tests {
			tt.name += suffix
			t.Run(tt.name, func(t *testing.T) {
				session := func(suites []tlswire.Suite, with *tlswire.SessionTicket) (*tlswire.Session,
					*tlswire.SessionTicket) {
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
					s, err := tlswire.Handshake(near, h,
						tlswire.Options{Random: rand.Reader, Shares: []tlswire.Group{tlswire.X25519}})
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
				assert.Equal(t, tt.resumed, len(second.Chain.Certificates) == 0,
					"a session that goes on shows no certificate")
			})
		}
	}
	t.Run("a session of TLS 1.2 gives none", func(t *testing.T) {
		_, err := (&tlswire.Session{}).SessionTicket()
		assert.ErrorIs(t, err, tlswire.ErrNoTickets)
	})
}

// TestWhatIsSentBackIsBounded meets servers that give more than a hello has room for.
func TestWhatIsSentBackIsBounded(t *testing.T) {
	number := func(n int) []byte { return []byte{byte(n >> 8), byte(n)} }
	retry := func(size int) []byte { // a HelloRetryRequest with a cookie, in records
		h := hello(t, tlswire.TLS13)
		extensions := slices.Concat([]byte{0, 43, 0, 2, 3, 4, 0, 51, 0, 2, 0, 24, 0, 44}, number(size+2), number(size),
			make([]byte, size))
		random, err := hex.DecodeString("cf21ad74e59a6111be1d8c021e65b891c2a211167abb8c5e079e09e2c8a8339c")
		require.NoError(t, err)
		body := slices.Concat([]byte{3, 3}, random, []byte{byte(len(h.SessionID))}, h.SessionID, []byte{0x13, 1, 0},
			number(len(extensions)), extensions)
		message := slices.Concat([]byte{2, byte(len(body) >> 16), byte(len(body) >> 8), byte(len(body))}, body)
		var out []byte
		for part := range slices.Chunk(message, 1<<14) {
			out = append(out, record(22, part...)...)
		}
		return out
	}
	var much *tlswire.TooMuchError
	for size, want := range map[int]bool{100: false, 1 << 14: false, 1<<14 + 1: true, 65000: true} {
		h := hello(t, tlswire.TLS13)
		h.Shares = nil
		_, err := tlswire.Handshake(&scripted{Reader: bytes.NewReader(retry(size))}, h,
			tlswire.Options{Random: rand.Reader, Shares: []tlswire.Group{tlswire.X25519}})
		require.Error(t, err, "nothing comes behind it")
		assert.Equal(t, want, errors.As(err, &much), "a cookie of %d bytes: %v", size, err)
	}
	ticket := func(size int) []byte {
		return slices.Concat([]byte{0, 0, 0, 9, 1, 2, 3, 4, 1, 0}, number(size), make([]byte, size), []byte{0, 0})
	}
	given, err := tlswire.ParseSessionTicket(ticket(1 << 14))
	require.NoError(t, err)
	h := hello(t, tlswire.TLS13, tlswire.TLS12)
	given.Suite, given.Key = 0x1301, make([]byte, 32)
	h.Resume, h.Ticket, h.Cookie, h.Padding = &given, make([]byte, 1<<14), make([]byte, 1<<14), 5000
	assert.NotPanics(t, func() { h.Message() }, "the most that is sent back fits")
	_, err = tlswire.ParseSessionTicket(ticket(1<<14 + 1))
	assert.ErrorAs(t, err, &much)
}
