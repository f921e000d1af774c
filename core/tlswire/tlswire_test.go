package tlswire_test

import (
	"bytes"
	"crypto/ecdh"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/forge"
	"nurvik/core/tlswire"
)

func hello(t testing.TB, versions ...tlswire.Version) tlswire.ClientHello {
	t.Helper()
	h := tlswire.Ordinary(versions...)
	h.ServerName = "tides.tarnholm.example"
	_, err := rand.Read(h.Random[:])
	require.NoError(t, err)
	if h.Offers(tlswire.TLS13) {
		h.SessionID = h.Random[:]
		key, err := ecdh.X25519().GenerateKey(rand.Reader)
		require.NoError(t, err)
		h.Shares = []tlswire.KeyShare{{Group: tlswire.X25519, Data: key.PublicKey().Bytes()}}
	}
	return h
}

func serverConfig(t testing.TB, minimum, maximum uint16) (*tls.Config, []byte) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	spki, err := forge.PublicInfo(key)
	require.NoError(t, err)
	der, err := forge.Issue(nil, key, forge.Template{Name: "tides.tarnholm.example", SPKI: spki,
		From: time.Unix(1.7e9, 0), Until: time.Unix(1.9e9, 0)})
	require.NoError(t, err)
	return &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}},
		MinVersion: minimum, MaxVersion: maximum}, der
}

// exchange speaks to the standard library's server over a pipe.
func exchange(t *testing.T, config *tls.Config, version tlswire.Version) (tlswire.Answer, string, error) {
	t.Helper()
	near, far := net.Pipe()
	defer near.Close()
	names := make(chan string, 1)
	config.GetConfigForClient = func(h *tls.ClientHelloInfo) (*tls.Config, error) {
		names <- h.ServerName
		return nil, nil
	}
	go func() {
		_ = tls.Server(far, config).Handshake()
		_ = far.Close()
	}()
	require.NoError(t, near.SetDeadline(time.Now().Add(5*time.Second)))
	answer, err := tlswire.Exchange(near, hello(t, version), tlswire.Options{})
	name := ""
	select {
	case name = <-names:
	default:
	}
	return answer, name, err
}

func TestExchangeWithARealServer(t *testing.T) {
	for _, version := range []tlswire.Version{tlswire.TLS10, tlswire.TLS11, tlswire.TLS12, tlswire.TLS13} {
		t.Run(version.String(), func(t *testing.T) {
			config, der := serverConfig(t, uint16(version), uint16(version))
			answer, name, err := exchange(t, config, version)
			require.NoError(t, err)
			assert.Equal(t, version, answer.Hello.Version)
			assert.Contains(t, answer.Hello.Suite.String(), "TLS_")
			assert.Equal(t, "tides.tarnholm.example", name)
			if version < tlswire.TLS13 {
				assert.Equal(t, [][]byte{der}, answer.Chain.Certificates, "they come in the clear")
			}
		})
	}
	t.Run("with a revocation answer", func(t *testing.T) {
		config, der := serverConfig(t, tls.VersionTLS12, tls.VersionTLS12)
		config.Certificates[0].OCSPStaple = []byte("an answer")
		answer, _, err := exchange(t, config, tlswire.TLS12)
		require.NoError(t, err)
		assert.Equal(t, [][]byte{der}, answer.Chain.Certificates)
		assert.Equal(t, "an answer", string(answer.Chain.Staple))
	})
	t.Run("older than the server allows", func(t *testing.T) {
		config, _ := serverConfig(t, tls.VersionTLS12, tls.VersionTLS13)
		_, _, err := exchange(t, config, tlswire.TLS11)
		var alert *tlswire.AlertError
		require.ErrorAs(t, err, &alert)
		assert.Equal(t, "protocol_version", alert.Alert.Name())
	})
	t.Run("newer than the server knows", func(t *testing.T) {
		config, _ := serverConfig(t, tls.VersionTLS10, tls.VersionTLS11)
		answer, _, err := exchange(t, config, tlswire.TLS12)
		require.NoError(t, err)
		assert.Equal(t, tlswire.TLS11, answer.Hello.Version, "it answers with its newest")
	})
	t.Run("another group than was shared", func(t *testing.T) {
		config, _ := serverConfig(t, tls.VersionTLS13, tls.VersionTLS13)
		config.CurvePreferences = []tls.CurveID{tls.CurveP384}
		answer, _, err := exchange(t, config, tlswire.TLS13)
		require.NoError(t, err)
		assert.True(t, answer.Hello.Retry, "a HelloRetryRequest accepts the version too")
		assert.Equal(t, tlswire.TLS13, answer.Hello.Version)
	})
}

// scripted answers whatever is sent with fixed bytes.
type scripted struct {
	io.Reader
	sent bytes.Buffer
}

func (s *scripted) Write(p []byte) (int, error) { return s.sent.Write(p) }

func record(kind byte, body ...byte) []byte {
	return append([]byte{kind, 3, 3, byte(len(body) >> 8), byte(len(body))}, body...)
}

func TestExchangeWithOddPeers(t *testing.T) {
	endless := bytes.Repeat(record(22, 4, 0, 0, 0), 400)
	warnings := bytes.Repeat(record(21, 1, 112), 100)
	tests := []struct {
		name   string
		answer []byte
		check  func(t *testing.T, err error)
	}{
		{"nothing", nil, func(t *testing.T, err error) { assert.ErrorIs(t, err, tlswire.ErrClosed) }},
		{"half a header", []byte{22, 3}, func(t *testing.T, err error) { assert.ErrorIs(t, err, tlswire.ErrClosed) }},
		{"plain HTTP", []byte("HTTP/1.1 400 Bad Request\r\n"), notTLS("HTTP/")},
		{"a mail server", []byte("220 post.tarnholm.example\r\n"), notTLS("220 p")},
		{"fatal alert", record(21, 2, 40), alertNamed("handshake_failure")},
		{"unregistered alert", record(21, 2, 200), alertNamed("alert 200")},
		{"alert of three bytes", record(21, 2, 40, 0), bad("alert has 3 bytes")},
		{"warnings without end", warnings, tooMuch("9 warning alerts")},
		{"records without end", endless, bad("handshake message 4")},
		{"application data first", record(23, 1, 2, 3), bad("application data")},
		{"record cut off", record(22, 2, 0, 0, 50)[:7], bad("middle of the answer")},
		{"empty record", record(22), bad("a record is empty")},
		{"record of another major version", append(record(22, 2, 0, 0, 50), 22, 9, 9, 0, 1, 0),
			bad("a record begins with")},
		{"gigantic message", record(22, 2, 0xff, 0xff, 0xff), tooMuch("claims 16777215 bytes")},
		{"ServerHello cut off", record(22, 2, 0, 0, 2, 3, 3), bad("cut off")},
		{"not a ServerHello", record(22, 11, 0, 0, 0), bad("handshake message 11")},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			peer := &scripted{Reader: bytes.NewReader(tt.answer)}
			_, err := tlswire.Exchange(peer, hello(t, tlswire.TLS12), tlswire.Options{})
			require.Error(t, err)
			tt.check(t, err)
			assert.Equal(t, byte(22), peer.sent.Bytes()[0], "a hello was sent")
		})
	}
}

func notTLS(begin string) func(*testing.T, error) {
	return func(t *testing.T, err error) {
		var wrong *tlswire.NotTLSError
		require.ErrorAs(t, err, &wrong)
		assert.Equal(t, begin, string(wrong.Begin))
	}
}

func alertNamed(name string) func(*testing.T, error) {
	return func(t *testing.T, err error) {
		var alert *tlswire.AlertError
		require.ErrorAs(t, err, &alert)
		assert.Equal(t, name, alert.Alert.Name())
	}
}

func bad(reason string) func(*testing.T, error) {
	return func(t *testing.T, err error) {
		var wrong *tlswire.BadMessageError
		require.ErrorAs(t, err, &wrong)
		assert.Contains(t, wrong.Reason, reason)
	}
}

func tooMuch(reason string) func(*testing.T, error) {
	return func(t *testing.T, err error) {
		var wrong *tlswire.TooMuchError
		require.ErrorAs(t, err, &wrong)
		assert.Contains(t, wrong.Reason, reason)
	}
}

func TestWarningIsReadPast(t *testing.T) {
	config, der := serverConfig(t, tls.VersionTLS12, tls.VersionTLS12)
	near, far := net.Pipe()
	defer near.Close()
	go func() {
		_, _ = far.Write(record(21, 1, 112)) // unrecognized_name, then the server goes on
		_ = tls.Server(far, config).Handshake()
	}()
	// The pipe has no buffer: the hello must be on its way while the warning is.
	require.NoError(t, near.SetDeadline(time.Now().Add(5*time.Second)))
	answer, err := tlswire.Exchange(&eager{Conn: near}, hello(t, tlswire.TLS12), tlswire.Options{})
	require.NoError(t, err)
	assert.Equal(t, [][]byte{der}, answer.Chain.Certificates)
}

// eager writes in the background, as a socket with a buffer does.
type eager struct{ net.Conn }

func (e *eager) Write(p []byte) (int, error) {
	go func() { _, _ = e.Conn.Write(p) }()
	return len(p), nil
}

func TestVersionNames(t *testing.T) {
	assert.Equal(t, "TLS 1.3", tlswire.TLS13.String())
	assert.Equal(t, "SSL 3.0", tlswire.SSL30.String())
	assert.Equal(t, "version 0x7f1c", tlswire.Version(0x7f1c).String())
	assert.Equal(t, "suite 0xfafa", tlswire.Suite(0xfafa).String())
}

func FuzzParseServerHello(f *testing.F) {
	f.Add([]byte{3, 3})
	f.Add(append(append([]byte{3, 3}, make([]byte, 32)...), 0, 0xc0, 0x2b, 0, 0, 6, 0, 43, 0, 2, 3, 4))
	f.Add(append(append([]byte{3, 3}, make([]byte, 32)...), 0, 0xc0, 0x2b, 0, 0, 6, 0, 43, 0, 2, 0, 4))
	f.Fuzz(func(t *testing.T, body []byte) {
		h, err := tlswire.ParseServerHello(body)
		if err != nil {
			var wrong *tlswire.BadMessageError
			var unasked *tlswire.NotOfferedError
			require.True(t, errors.As(err, &wrong) || errors.As(err, &unasked), "%v", err)
			return
		}
		assert.True(t, h.Version >= tlswire.SSL30 && h.Version <= tlswire.TLS13)
		_, err = tlswire.ParseServerHello(body[:len(body)-1])
		if len(body) == 38 {
			return // without extensions the last byte is all of the compression
		}
		require.Error(t, err, "a truncated message is refused")
	})
}

func FuzzParseCertificates(f *testing.F) {
	f.Add([]byte{0, 0, 0})
	f.Add([]byte{0, 0, 5, 0, 0, 2, 1, 2})
	f.Fuzz(func(t *testing.T, body []byte) {
		list, err := tlswire.ParseCertificates(body)
		if err != nil {
			return
		}
		size := 3
		for _, der := range list.Certificates {
			size += 3 + len(der)
		}
		assert.Equal(t, len(body), size, "every byte is accounted for")
	})
}

func FuzzExchange(f *testing.F) {
	f.Add(record(21, 2, 40))
	f.Add(record(22, 2, 0, 0, 2, 3, 3))
	f.Add([]byte("HTTP/1.1"))
	f.Add(record(22, slices.Concat([]byte{2, 0, 0, 54, 3, 3}, make([]byte, 32),
		[]byte{0, 0x13, 1, 0, 0, 14, 0, 43, 0, 2, 3, 4, 0, 51, 0, 4, 0, 29, 0, 0})...))
	f.Fuzz(func(t *testing.T, answer []byte) {
		_, err := tlswire.Exchange(&scripted{Reader: bytes.NewReader(answer)}, hello(t, tlswire.TLS12),
			tlswire.Options{})
		if err != nil && !errors.Is(err, tlswire.ErrClosed) {
			assert.NotEmpty(t, err.Error())
		}
		// whole handshakes read more, and send back what came
		for _, version := range []tlswire.Version{tlswire.TLS12, tlswire.TLS13} {
			s, err := tlswire.Handshake(&scripted{Reader: bytes.NewReader(answer)}, hello(t, version),
				tlswire.Options{Random: rand.Reader, Shares: []tlswire.Group{tlswire.X25519}})
			if err == nil {
				assert.False(t, s.Finished, "nobody knows the keys")
			}
		}
	})
}
