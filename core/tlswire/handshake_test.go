package tlswire_test

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/forge"
	"nurvik/core/tlswire"
)

// identity is a key with a certificate.
func identity(t testing.TB, kind string) tls.Certificate {
	t.Helper()
	issue := func(spki []byte, sign func(w forge.Template) ([]byte, error)) []byte {
		der, err := sign(forge.Template{Name: "tides.tarnholm.example", Names: []string{"tides.tarnholm.example"},
			SPKI: spki, From: time.Unix(1.7e9, 0), Until: time.Unix(1.9e9, 0)})
		require.NoError(t, err)
		return der
	}
	if kind == "RSA" {
		key, err := rsa.GenerateKey(rand.Reader, 2048)
		require.NoError(t, err)
		spki, err := forge.PublicInfo(key)
		require.NoError(t, err)
		return tls.Certificate{PrivateKey: key, Certificate: [][]byte{issue(spki,
			func(w forge.Template) ([]byte, error) {
				w.Sign = &forge.RSASHA256
				return forge.Issue(nil, key, w)
			})}}
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	spki, err := forge.PublicInfo(key)
	require.NoError(t, err)
	return tls.Certificate{PrivateKey: key, Certificate: [][]byte{issue(spki,
		func(w forge.Template) ([]byte, error) { return forge.Issue(nil, key, w) })}}
}

// encryptRSA encrypts as a client does.
func encryptRSA(leaf, secret []byte) ([]byte, error) {
	c, err := x509.ParseCertificate(leaf)
	if err != nil {
		return nil, err
	}
	key, ok := c.PublicKey.(*rsa.PublicKey)
	if !ok {
		return nil, errors.New("no RSA key")
	}
	//lint:ignore SA1019 it is what suites with static RSA do
	return rsa.EncryptPKCS1v15(rand.Reader, key, secret)
}

// recorded notes what goes through a connection, in both directions.
type recorded struct {
	net.Conn
	flows *[]flow
}

type flow struct {
	out  bool
	data []byte
}

func (r recorded) Read(p []byte) (int, error) {
	n, err := r.Conn.Read(p)
	*r.flows = append(*r.flows, flow{false, bytes.Clone(p[:n])})
	return n, err
}

func (r recorded) Write(p []byte) (int, error) {
	*r.flows = append(*r.flows, flow{true, bytes.Clone(p)})
	return r.Conn.Write(p)
}

// handshake speaks with the standard library's server, which answers "ping" with "pong".
func handshake(t *testing.T, config *tls.Config, hello tlswire.ClientHello, o tlswire.Options,
	flows *[]flow) (*tlswire.Session, error, error) {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	served := make(chan error, 1)
	go func() {
		conn, err := listener.Accept()
		if err != nil {
			served <- err
			return
		}
		defer conn.Close()
		server := tls.Server(conn, config)
		buffer := make([]byte, 4)
		if _, err = io.ReadFull(server, buffer); err == nil {
			_, err = server.Write(bytes.Replace(buffer, []byte("i"), []byte("o"), 1))
		}
		served <- err
	}()
	conn, err := net.Dial("tcp", listener.Addr().String())
	require.NoError(t, err)
	defer conn.Close()
	require.NoError(t, conn.SetDeadline(time.Now().Add(10*time.Second)))
	var stream io.ReadWriter = conn
	if flows != nil {
		stream = recorded{conn, flows}
	}
	s, err := tlswire.Handshake(stream, hello, o)
	if err == nil && s.Finished {
		_, err = s.Write([]byte("ping"))
		require.NoError(t, err)
		answer := make([]byte, 4)
		_, err = io.ReadFull(s, answer)
		require.NoError(t, err)
		assert.Equal(t, "pong", string(answer))
	} else {
		_ = conn.Close()
	}
	return s, err, <-served
}

func TestHandshakes(t *testing.T) {
	ec, rsaCertificate := identity(t, "EC"), identity(t, "RSA")
	version := map[tlswire.Version]uint16{tlswire.TLS10: tls.VersionTLS10, tlswire.TLS11: tls.VersionTLS11,
		tlswire.TLS12: tls.VersionTLS12, tlswire.TLS13: tls.VersionTLS13}
	type test struct {
		name    string
		version tlswire.Version
		suite   tlswire.Suite
		server  tls.Certificate
		group   tls.CurveID
		shares  []tlswire.Group
	}
	tests := []test{}
	for _, s := range []tlswire.Suite{0x1301, 0x1302, 0x1303} {
		tests = append(tests, test{"TLS 1.3 " + s.String(), tlswire.TLS13, s, ec, tls.X25519,
			[]tlswire.Group{tlswire.X25519}})
	}
	for _, g := range []struct {
		theirs tls.CurveID
		ours   tlswire.Group
	}{{tls.CurveP256, tlswire.P256}, {tls.CurveP384, tlswire.P384}, {tls.CurveP521, tlswire.P521},
		{tls.X25519MLKEM768, tlswire.X25519MLKEM768}, {tls.SecP256r1MLKEM768, tlswire.SecP256r1MLKEM768},
		{tls.SecP384r1MLKEM1024, tlswire.SecP384r1MLKEM1024}} {
		tests = append(tests,
			test{"TLS 1.3 share in " + g.ours.String(), tlswire.TLS13, 0, rsaCertificate, g.theirs,
				[]tlswire.Group{g.ours}},
			test{"TLS 1.3 after a retry for " + g.ours.String(), tlswire.TLS13, 0, ec, g.theirs,
				[]tlswire.Group{tlswire.X25519}})
	}
	for _, v := range []tlswire.Version{tlswire.TLS10, tlswire.TLS11, tlswire.TLS12} {
		for _, s := range []tlswire.Suite{0xc013, 0xc014, 0xc012, 0xc011, 0x002f, 0x0035, 0x000a, 0x0005} {
			tests = append(tests, test{v.String() + " " + s.String(), v, s, rsaCertificate, tls.CurveP256, nil})
		}
		tests = append(tests, test{v.String() + " EC", v, 0xc009, ec, tls.X25519, nil})
	}
	for _, s := range []tlswire.Suite{0xc02f, 0xc030, 0xcca8, 0xc027, 0x009c, 0x009d, 0x003c} {
		tests = append(tests, test{"TLS 1.2 " + s.String(), tlswire.TLS12, s, rsaCertificate, tls.CurveP384, nil})
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			config := &tls.Config{Certificates: []tls.Certificate{tt.server}, MinVersion: version[tt.version],
				MaxVersion: version[tt.version], CurvePreferences: []tls.CurveID{tt.group},
				NextProtos: []string{"http/1.1"}}
			for _, s := range append(tls.CipherSuites(), tls.InsecureCipherSuites()...) {
				config.CipherSuites = append(config.CipherSuites, s.ID)
			}
			h := hello(t, tt.version)
			h.Shares = nil
			if tt.suite != 0 {
				h.Suites = []tlswire.Suite{tt.suite}
			}
			s, err, served := handshake(t, config, h, tlswire.Options{Random: rand.Reader, Shares: tt.shares,
				EncryptRSA: encryptRSA}, nil)
			require.NoError(t, err)
			require.NoError(t, served)
			assert.True(t, s.Finished, s.Unfinished)
			assert.Equal(t, tt.version, s.Hello.Version)
			assert.Equal(t, tt.server.Certificate, s.Chain.Certificates)
			assert.Equal(t, "http/1.1", s.Protocol())
			exchange := s.Hello.Suite.Properties().KeyExchange
			if exchange != "RSA" {
				assert.Equal(t, uint16(tt.group), uint16(s.Group()))
				require.NotNil(t, s.Proof)
			}
			assert.Equal(t, exchange == "RSA", s.Proof == nil, "with static RSA only Finished proves the key")
			assert.Equal(t, tt.version < tlswire.TLS13, s.TicketGiven)
		})
	}
}

func TestHandshakeFacts(t *testing.T) {
	ec := identity(t, "EC")
	issuer, err := x509.ParseCertificate(ec.Certificate[0])
	require.NoError(t, err)
	for _, v := range []tlswire.Version{tlswire.TLS12, tlswire.TLS13} {
		t.Run("a client certificate is asked for, "+v.String(), func(t *testing.T) {
			pool := x509.NewCertPool()
			pool.AddCert(issuer)
			config := &tls.Config{Certificates: []tls.Certificate{ec}, ClientAuth: tls.RequestClientCert,
				ClientCAs: pool, MaxVersion: uint16(v)}
			s, err, served := handshake(t, config, hello(t, v),
				tlswire.Options{Random: rand.Reader, Shares: []tlswire.Group{tlswire.P256}}, nil)
			require.NoError(t, err)
			require.NoError(t, served)
			require.NotNil(t, s.Request)
			assert.Equal(t, [][]byte{issuer.RawSubject}, s.Request.Issuers)
			assert.Contains(t, s.Request.Signatures, tlswire.SignatureScheme(0x0403))
		})
		t.Run("and demanded, "+v.String(), func(t *testing.T) {
			config := &tls.Config{Certificates: []tls.Certificate{ec}, ClientAuth: tls.RequireAnyClientCert,
				MaxVersion: uint16(v)}
			h := hello(t, v)
			near, far := net.Pipe()
			go func() { _ = tls.Server(far, config).Handshake(); _ = far.Close() }()
			require.NoError(t, near.SetDeadline(time.Now().Add(5*time.Second)))
			s, _ := tlswire.Handshake(&eager{Conn: near}, h,
				tlswire.Options{Random: rand.Reader, Shares: []tlswire.Group{tlswire.X25519}})
			assert.Equal(t, ec.Certificate, s.Chain.Certificates, "it is examined as far as it goes")
			assert.NotNil(t, s.Request)
		})
	}
	t.Run("timestamps and a revocation answer", func(t *testing.T) {
		for _, v := range []tlswire.Version{tlswire.TLS12, tlswire.TLS13} {
			c := ec
			c.SignedCertificateTimestamps, c.OCSPStaple = [][]byte{[]byte("one"), []byte("two")}, []byte("good")
			s, err, _ := handshake(t, &tls.Config{Certificates: []tls.Certificate{c}, MaxVersion: uint16(v)},
				hello(t, v), tlswire.Options{Random: rand.Reader, Shares: []tlswire.Group{tlswire.X25519}}, nil)
			require.NoError(t, err)
			assert.Equal(t, c.SignedCertificateTimestamps, s.Chain.Timestamps)
			assert.Equal(t, "good", string(s.Chain.Staple))
		}
	})
	t.Run("the downgrade marker and what extensions show", func(t *testing.T) {
		s, err, _ := handshake(t, &tls.Config{Certificates: []tls.Certificate{ec}}, hello(t, tlswire.TLS12),
			tlswire.Options{Random: rand.Reader}, nil)
		require.NoError(t, err)
		assert.True(t, s.Hello.DowngradeMarker(), "it could do TLS 1.3")
		assert.True(t, s.Hello.ExtendedMaster())
		assert.True(t, s.Hello.Renegotiation())
		assert.False(t, s.Hello.EncryptThenMAC())
		assert.False(t, s.Hello.Heartbeat())
	})
	t.Run("reserved values, signals and padding are passed over", func(t *testing.T) {
		h := hello(t, tlswire.TLS13, tlswire.TLS12)
		h.Shares, h.Grease, h.Padding, h.Heartbeat = nil, true, 300, true
		s, err, served := handshake(t, &tls.Config{Certificates: []tls.Certificate{ec}}, h,
			tlswire.Options{Random: rand.Reader, Shares: []tlswire.Group{tlswire.X25519}}, nil)
		require.NoError(t, err)
		require.NoError(t, served)
		assert.Equal(t, tlswire.TLS13, s.Hello.Version)
	})
	t.Run("compression is offered and not taken", func(t *testing.T) {
		h := hello(t, tlswire.TLS12)
		h.Compression = true
		s, err, _ := handshake(t, &tls.Config{Certificates: []tls.Certificate{ec}}, h,
			tlswire.Options{Random: rand.Reader}, nil)
		require.NoError(t, err)
		assert.Zero(t, s.Hello.Compression)
	})
	t.Run("the fallback signal is refused by a server that could do more", func(t *testing.T) {
		h := hello(t, tlswire.TLS11)
		h.Signals = []tlswire.Suite{tlswire.FallbackSignal}
		_, err, _ := handshake(t, &tls.Config{Certificates: []tls.Certificate{ec}, MinVersion: tls.VersionTLS10}, h,
			tlswire.Options{Random: rand.Reader}, nil)
		var alert *tlswire.AlertError
		require.ErrorAs(t, err, &alert)
		assert.Equal(t, "inappropriate_fallback", alert.Alert.Name())
	})
	t.Run("a ticket resumes", func(t *testing.T) {
		config := &tls.Config{Certificates: []tls.Certificate{ec}, MaxVersion: tls.VersionTLS12}
		first, err, _ := handshake(t, config, hello(t, tlswire.TLS12), tlswire.Options{Random: rand.Reader}, nil)
		require.NoError(t, err)
		require.NotEmpty(t, first.Ticket)
		h := hello(t, tlswire.TLS12)
		h.Ticket, h.SessionID = first.Ticket, bytes.Repeat([]byte{7}, 32)
		second, err, _ := handshake(t, config, h, tlswire.Options{Random: rand.Reader}, nil)
		require.NoError(t, err)
		assert.True(t, second.Resumed)
	})
	t.Run("a suite that cannot be read is no error", func(t *testing.T) {
		// A server that chooses a suite of which no records can be read here.
		first := append(append([]byte{3, 3}, make([]byte, 32)...), 0, 0xc0, 0xac, 0)
		answer := record(22, append([]byte{2, 0, 0, byte(len(first))}, first...)...)
		answer = append(answer, record(22, 11, 0, 0, 7, 0, 0, 4, 0, 0, 1, 9)...)
		answer = append(answer, record(22, 14, 0, 0, 0)...)
		s, err := tlswire.Handshake(&scripted{Reader: bytes.NewReader(answer)}, hello(t, tlswire.TLS12),
			tlswire.Options{Random: rand.Reader})
		require.NoError(t, err)
		assert.False(t, s.Finished)
		assert.Contains(t, s.Unfinished, "TLS_ECDHE_ECDSA_WITH_AES_128_CCM")
	})
	t.Run("a suite that was not offered is impossible in TLS 1.3", func(t *testing.T) {
		h := hello(t, tlswire.TLS13)
		body := fmt.Sprintf("\x03\x03%s\x00\x13\x01\x00\x00\x2e\x00\x2b\x00\x02\x03\x04"+
			"\x00\x33\x00\x24\x00\x1d\x00\x20%s",
			make([]byte, 32), bytes.Repeat([]byte{9}, 32))
		h.Suites = []tlswire.Suite{0x1303}
		_, err := tlswire.Handshake(&scripted{Reader: bytes.NewReader(record(22,
			append([]byte{2, 0, 0, byte(len(body))}, body...)...))}, h, tlswire.Options{Random: rand.Reader})
		var unasked *tlswire.NotOfferedError
		require.ErrorAs(t, err, &unasked)
		assert.Equal(t, "TLS_AES_128_GCM_SHA256", unasked.What)
	})
}

func TestExchangeOld(t *testing.T) {
	der := identity(t, "RSA").Certificate[0]
	body := append([]byte{4, 0, 1, 0, 2, byte(len(der) >> 8), byte(len(der)), 0, 6, 0, 16}, der...)
	body = append(append(body, 0x07, 0, 0xc0, 9, 9, 9), make([]byte, 16)...)
	good := append([]byte{0x80 | byte(len(body)>>8), byte(len(body))}, body...)
	tests := []struct {
		name   string
		answer []byte
		check  func(t *testing.T, err error)
	}{
		{"good", good, nil},
		{"an alert of a newer version", record(21, 2, 70), alertNamed("protocol_version")},
		{"another protocol", []byte("HTTP/1.1 400"), notTLS("HTTP/1.")},
		{"closed", nil, func(t *testing.T, err error) { assert.ErrorIs(t, err, tlswire.ErrClosed) }},
		{"cut off", good[:40], bad("middle of the answer")},
		{"an error message", []byte{0x80, 3, 0, 0, 1}, bad("message 0 came")},
		{"lengths that do not fit", []byte{0x80, 11, 4, 0, 1, 0, 2, 9, 9, 0, 6, 0, 16}, bad("cut off")},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			peer := &scripted{Reader: bytes.NewReader(tt.answer)}
			a, err := tlswire.ExchangeOld(peer, [16]byte{1})
			assert.Equal(t, []byte{0x80, 46, 1, 0, 2, 0, 21}, peer.sent.Bytes()[:7])
			if tt.check != nil {
				require.Error(t, err)
				tt.check(t, err)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, der, a.Certificate)
			assert.Equal(t, []string{"SSL2_DES_192_EDE3_CBC_WITH_MD5", "SSL 2.0 cipher 0x090909"}, a.Ciphers)
		})
	}
}

// FuzzMessages gives every decoder the same bytes: none may crash, and what they return must have
// come from the message.
func FuzzMessages(f *testing.F) {
	f.Add([]byte{0, 0, 0, 0})
	f.Add([]byte{3, 0, 29, 2, 1, 2, 4, 3, 0, 1, 9})
	f.Add([]byte{0, 1, 7, 0, 1, 2, 0, 1, 3, 4, 3, 0, 1, 9})
	f.Add([]byte{1, 64, 0, 2, 4, 3, 0, 0})
	f.Add([]byte{0, 0, 0, 9, 1, 2, 3, 4, 1, 0, 0, 2, 5, 6, 0, 0})
	f.Add([]byte{0, 0, 8, 0, 13, 0, 4, 0, 2, 4, 3})
	f.Fuzz(func(t *testing.T, body []byte) {
		if m, err := tlswire.ParseCertificates13(body); err == nil {
			for _, der := range m.Certificates {
				assert.True(t, bytes.Contains(body, der))
			}
		}
		if ticket, err := tlswire.ParseSessionTicket(body); err == nil {
			assert.True(t, bytes.Contains(body, ticket.Identity))
		}
		_, _ = tlswire.ParseOldAnswer(body)
		_, _ = tlswire.ParseCertificateStatus(body)
		for _, v := range []tlswire.Version{tlswire.TLS10, tlswire.TLS12, tlswire.TLS13} {
			_, _ = tlswire.ParseCertificateRequest(body, v)
			for _, suite := range []tlswire.Suite{0xc02f, 0x0033, 0x0018, 0xc035, 0x002f} {
				if k, err := tlswire.ParseKeyExchange(body, suite, v); err == nil && k.Signed {
					assert.True(t, bytes.Contains(body, k.Signature))
				}
			}
		}
	})
}
