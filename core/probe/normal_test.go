package probe_test

import (
	"bufio"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/probe"
	"nurvik/core/words"
)

const name = "tides.tarnholm.example"

// certificate makes a self-signed certificate for the name with a key of the kind.
func certificate(t *testing.T, kind, host string) tls.Certificate {
	t.Helper()
	w := forge.Template{Name: host, Names: []string{host}, From: time.Unix(1.7e9, 0), Until: time.Unix(1.9e9, 0)}
	var out tls.Certificate
	var err error
	if kind == "RSA" {
		key, keyErr := rsa.GenerateKey(rand.Reader, 2048)
		require.NoError(t, keyErr)
		w.Sign = &forge.RSASHA256
		w.SPKI, err = forge.PublicInfo(key)
		require.NoError(t, err)
		der, err := forge.Issue(nil, key, w)
		require.NoError(t, err)
		out = tls.Certificate{PrivateKey: key, Certificate: [][]byte{der}}
	} else {
		key, keyErr := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, keyErr)
		w.SPKI, err = forge.PublicInfo(key)
		require.NoError(t, err)
		der, err := forge.Issue(nil, key, w)
		require.NoError(t, err)
		out = tls.Certificate{PrivateKey: key, Certificate: [][]byte{der}}
	}
	out.Leaf, err = x509.ParseCertificate(out.Certificate[0])
	require.NoError(t, err)
	return out
}

// observe visits a server of the standard library that answers HTTP.
func observe(t *testing.T, config *tls.Config, call probe.Call) facts.Observation {
	t.Helper()
	address := listen(t, func(c net.Conn) {
		server := tls.Server(c, config)
		if server.Handshake() == nil && server.ConnectionState().NegotiatedProtocol == "h2" {
			_ = http.Serve(&oneConn{conn: server}, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
				w.Header().Set("Strict-Transport-Security", "max-age=31536000")
				w.WriteHeader(http.StatusFound)
			}))
			time.Sleep(100 * time.Millisecond) // it goes on in the background, until the client has hung up
			return
		}
		request, err := http.ReadRequest(bufio.NewReader(server))
		if err == nil {
			_, _ = io.WriteString(server,
				"HTTP/1.1 302 Found\r\nLocation: /harbour\r\nStrict-Transport-Security: "+
					"max-age=31536000\r\nServer: "+request.Host+"\r\nContent-Length: 0\r\n\r\n")
		}
	})
	call.ServerName = name
	o, err := probe.New(network(nil), patient).Visit(t.Context(), address, call)
	require.NoError(t, err)
	require.Equal(t, facts.Answered, o.Outcome, o.Detail)
	return o
}

// oneConn is a listener with one connection.
type oneConn struct{ conn net.Conn }

func (o *oneConn) Accept() (net.Conn, error) {
	if o.conn == nil {
		return nil, net.ErrClosed
	}
	conn := o.conn
	o.conn = nil
	return conn, nil
}
func (o *oneConn) Addr() net.Addr { return &net.TCPAddr{} }
func (o *oneConn) Close() error   { return nil }

func versionOf(o facts.Observation, name string) facts.Version {
	i := slices.IndexFunc(o.Versions, func(v facts.Version) bool { return v.Name == name })
	if i < 0 {
		return facts.Version{}
	}
	return o.Versions[i]
}

func TestSuitesAndOrder(t *testing.T) {
	both := []tls.Certificate{certificate(t, "RSA", name), certificate(t, "EC", name)}
	tests := []struct {
		name   string
		config *tls.Config
		want   map[string][]string
		order  facts.Order
	}{
		{"six of TLS 1.2", &tls.Config{Certificates: both[:1], MaxVersion: tls.VersionTLS12,
			CipherSuites: []uint16{0xc02f, 0xc030, 0xcca8, 0xc013, 0xc014, 0x009c}},
			map[string][]string{"TLS 1.2": {"TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256",
				"TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384", "TLS_ECDHE_RSA_WITH_CHACHA20_POLY1305_SHA256",
				"TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA", "TLS_ECDHE_RSA_WITH_AES_256_CBC_SHA",
				"TLS_RSA_WITH_AES_128_GCM_SHA256"}}, facts.PartialOrder},
		{"one", &tls.Config{Certificates: both[1:], MaxVersion: tls.VersionTLS12, CipherSuites: []uint16{0xc02b}},
			map[string][]string{"TLS 1.2": {"TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256"}}, ""},
		{"TLS 1.3", &tls.Config{Certificates: both[1:], MinVersion: tls.VersionTLS13},
			map[string][]string{"TLS 1.3": {"TLS_AES_128_GCM_SHA256", "TLS_AES_256_GCM_SHA384",
				"TLS_CHACHA20_POLY1305_SHA256"}}, facts.PartialOrder},
		{"without ChaCha20", &tls.Config{Certificates: both[:1], MaxVersion: tls.VersionTLS12,
			CipherSuites: []uint16{0xc02f, 0xc030, 0x009c}},
			map[string][]string{"TLS 1.2": {"TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256",
				"TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384", "TLS_RSA_WITH_AES_128_GCM_SHA256"}}, facts.ServerOrder},
		{"old ones", &tls.Config{Certificates: both[:1], MinVersion: tls.VersionTLS10, MaxVersion: tls.VersionTLS10,
			CipherSuites: []uint16{0x0005, 0x000a, 0x002f}},
			map[string][]string{"TLS 1.0": {"TLS_RSA_WITH_AES_128_CBC_SHA", "TLS_RSA_WITH_3DES_EDE_CBC_SHA",
				"TLS_RSA_WITH_RC4_128_SHA"}}, facts.ServerOrder},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			o := observe(t, tt.config, probe.Call{})
			for version, suites := range tt.want {
				v := versionOf(o, version)
				assert.ElementsMatch(t, suites, v.Suites)
				assert.Equal(t, v.Suites[0], v.Suite)
				assert.Equal(t, tt.order, v.Order)
				asked := 0
				for _, c := range o.Connections {
					// a refusal there told of the schemes
					if p := c.Purpose; p.Code == facts.ForSuites && p.Args[0] == version &&
						(len(p.Args) == 1 || c.Outcome.Code == facts.GotAnswer) {
						asked++
					}
				}
				most := len(suites)
				if most == 1 { // nothing shows then whether a long list is read to its end
					most = 6
				}
				assert.LessOrEqual(t, asked, most, "k suites cost k+1 connections, the first contact included")
			}
		})
	}
}

func TestFactsOfAVisit(t *testing.T) {
	ec, rsaKey, foreign := certificate(t, "EC", name), certificate(t, "RSA", name),
		certificate(t, "EC", "default.tarnholm.example")
	byName := func(c *tls.Config) *tls.Config {
		c.GetCertificate = func(h *tls.ClientHelloInfo) (*tls.Certificate, error) {
			if h.ServerName == name {
				for _, mine := range []tls.Certificate{ec, rsaKey} {
					if h.SupportsCertificate(&mine) == nil {
						return &mine, nil
					}
				}
			}
			return &foreign, nil
		}
		return c
	}
	t.Run("typical", func(t *testing.T) {
		o := observe(t, &tls.Config{Certificates: []tls.Certificate{ec},
			CurvePreferences: []tls.CurveID{tls.X25519MLKEM768, tls.X25519, tls.CurveP256, tls.CurveP384},
			NextProtos:       []string{"h2", "http/1.1"}}, probe.Call{Web: true})
		assert.Equal(t, []string{"X25519MLKEM768", "x25519", "secp256r1", "secp384r1"}, o.Groups.Accepted)
		assert.Equal(t, facts.PossessionShown, o.Possession)
		assert.Equal(t, &facts.HTTP{Status: 302, StrictTransportSecurity: "max-age=31536000"}, o.HTTP)
		assert.Equal(t, facts.Settings{RenegotiationInfo: facts.Yes, ExtendedMasterSecret: facts.Yes,
			EncryptThenMAC: facts.No, Compression: facts.No, FallbackSignal: facts.Yes, SessionTickets: facts.Yes,
			Resumption: facts.Unknown, Heartbeat: facts.No, DowngradeMarker: facts.Yes, ToleratesUnknown: facts.Yes,
			ToleratesNewer: facts.Unknown,
			ToleratesLarge: facts.Unknown, ALPN: "h2", SignatureScheme: "ecdsa_secp256r1_sha256",
			SignatureSchemes: []string{"ecdsa_secp256r1_sha256", "ecdsa_secp384r1_sha384", "ecdsa_secp521r1_sha512"}},
			*o.Settings)
		assert.Empty(t, o.Others)
		assert.Nil(t, o.ClientCertificate)
		assert.Equal(t, facts.ServerOrder, o.Groups.Order)
	})
	t.Run("two keys and a default of another name", func(t *testing.T) {
		o := observe(t, byName(&tls.Config{}), probe.Call{})
		got := map[string][][]byte{}
		for _, x := range o.Others {
			got[x.To] = x.Certificates
		}
		assert.Equal(t, map[string][][]byte{"other-key": rsaKey.Certificate, "no-name": foreign.Certificate,
			"foreign-name": foreign.Certificate}, got)
	})
	t.Run("the same over TLS 1.3 alone", func(t *testing.T) {
		o := observe(t, byName(&tls.Config{MinVersion: tls.VersionTLS13}), probe.Call{})
		assert.Len(t, o.Others, 3)
	})
	t.Run("a foreign name is refused", func(t *testing.T) {
		o := observe(t, &tls.Config{GetConfigForClient: func(h *tls.ClientHelloInfo) (*tls.Config, error) {
			if h.ServerName != name {
				return nil, io.EOF
			}
			return &tls.Config{Certificates: []tls.Certificate{ec}}, nil
		}}, probe.Call{})
		require.Len(t, o.Others, 2)
		assert.Equal(t, facts.Because(facts.Alert, "internal_error"), o.Others[0].Refused)
	})
	t.Run("a client certificate is asked for", func(t *testing.T) {
		pool := x509.NewCertPool()
		pool.AddCert(foreign.Leaf)
		o := observe(t, &tls.Config{Certificates: []tls.Certificate{ec}, ClientAuth: tls.RequireAndVerifyClientCert,
			ClientCAs: pool}, probe.Call{})
		require.NotNil(t, o.ClientCertificate)
		assert.Equal(t, []string{"O=Tarnholm Harbour Authority, CN=default.tarnholm.example"},
			o.ClientCertificate.Issuers)
		assert.Equal(t, facts.PossessionShown, o.Possession, "it is examined as far as it goes")
	})
	t.Run("static RSA is proved by Finished", func(t *testing.T) {
		o := observe(t, &tls.Config{Certificates: []tls.Certificate{rsaKey}, MaxVersion: tls.VersionTLS12,
			CipherSuites: []uint16{0x009c}}, probe.Call{})
		assert.Equal(t, facts.PossessionShown, o.Possession)
	})
	t.Run("another's certificate", func(t *testing.T) {
		thief := tls.Certificate{Certificate: ec.Certificate, PrivateKey: foreign.PrivateKey}
		o := observe(t, &tls.Config{Certificates: []tls.Certificate{thief}}, probe.Call{})
		assert.Equal(t, facts.PossessionFailed, o.Possession)
	})
	t.Run("resumption and large hellos at full effort", func(t *testing.T) {
		o := observe(t, &tls.Config{Certificates: []tls.Certificate{ec}}, probe.Call{Effort: facts.Full})
		assert.Equal(t, facts.Yes, o.Settings.Resumption)
		assert.Equal(t, facts.Yes, versionOf(o, "TLS 1.3").Resumption)
		assert.Equal(t, facts.Yes, versionOf(o, "TLS 1.2").Resumption)
		assert.Equal(t, facts.Yes, o.Settings.ToleratesLarge)
		o = observe(t, &tls.Config{Certificates: []tls.Certificate{ec}, SessionTicketsDisabled: true},
			probe.Call{Effort: facts.Full, Web: true})
		assert.Equal(t, facts.No, versionOf(o, "TLS 1.3").Resumption)
		assert.Equal(t, facts.No, o.Settings.Resumption)
		assert.Equal(t, facts.No, o.Settings.SessionTickets)
	})
}

func TestSignatureSchemes(t *testing.T) {
	ec, rsaCertificate := certificate(t, "EC", name), certificate(t, "RSA", name)
	ecdsa, pss, pkcs := []string{"ecdsa_secp256r1_sha256", "ecdsa_secp384r1_sha384", "ecdsa_secp521r1_sha512"},
		[]string{"rsa_pss_rsae_sha256", "rsa_pss_rsae_sha384", "rsa_pss_rsae_sha512"},
		[]string{"rsa_pkcs1_sha256", "rsa_pkcs1_sha384", "rsa_pkcs1_sha512"}
	tests := []struct {
		name   string
		config *tls.Config
		want   []string
		suites []string // of TLS 1.2: their order is the endpoint's, whatever is asked beside them
	}{
		{"EC", &tls.Config{Certificates: []tls.Certificate{ec}, MaxVersion: tls.VersionTLS12,
			CipherSuites: []uint16{0xc02b}}, ecdsa, []string{"TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256"}},
		{"RSA", &tls.Config{Certificates: []tls.Certificate{rsaCertificate}, MaxVersion: tls.VersionTLS12,
			CipherSuites: []uint16{0xc02f, 0x009c}}, slices.Concat(pss, pkcs),
			[]string{"TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256", "TLS_RSA_WITH_AES_128_GCM_SHA256"}},
		{"both", &tls.Config{Certificates: []tls.Certificate{ec, rsaCertificate}, MaxVersion: tls.VersionTLS12,
			CipherSuites: []uint16{0xc02b, 0xc02c, 0xc02f, 0xc030}}, slices.Concat(ecdsa, pss, pkcs),
			[]string{"TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256", "TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256",
				"TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384", "TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384"}},
		{"without signatures", &tls.Config{Certificates: []tls.Certificate{rsaCertificate},
			MaxVersion: tls.VersionTLS12, CipherSuites: []uint16{0x009c}}, nil,
			[]string{"TLS_RSA_WITH_AES_128_GCM_SHA256"}},
		{"TLS 1.1 has no choice", &tls.Config{Certificates: []tls.Certificate{rsaCertificate},
			MinVersion: tls.VersionTLS10, MaxVersion: tls.VersionTLS11}, nil, nil},
		{"TLS 1.3 alone", &tls.Config{Certificates: []tls.Certificate{rsaCertificate}, MinVersion: tls.VersionTLS13},
			pss, nil},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			o := observe(t, tt.config, probe.Call{})
			assert.ElementsMatch(t, tt.want, o.Settings.SignatureSchemes)
			if tt.suites != nil {
				assert.ElementsMatch(t, tt.suites, versionOf(o, "TLS 1.2").Suites)
			}
		})
	}
}

// TestConnectionsOfATypicalEndpoint: TLS 1.2 with six suites, TLS 1.3 with three.
func TestConnectionsOfATypicalEndpoint(t *testing.T) {
	config := &tls.Config{Certificates: []tls.Certificate{certificate(t, "RSA", name)},
		CipherSuites:     []uint16{0xc02f, 0xc030, 0xcca8, 0xc013, 0xc014, 0x009c},
		CurvePreferences: []tls.CurveID{tls.X25519MLKEM768, tls.X25519, tls.CurveP256, tls.CurveP384}}
	count := func(effort facts.Effort) int {
		o := observe(t, config, probe.Call{Effort: effort, Web: true})
		return len(o.Connections)
	}
	assert.Equal(t, 3, count(facts.Quick), "docs/visits.md says so")
	assert.LessOrEqual(t, count(facts.Full), 26)
	o := observe(t, config, probe.Call{Web: true})
	var purposes []string
	for _, c := range o.Connections {
		purposes = append(purposes, words.Of(c.Purpose))
	}
	assert.LessOrEqual(t, len(o.Connections), 20, strings.Join(purposes, "\n"))
	assert.Len(t, versionOf(o, "TLS 1.2").Suites, 6)
	assert.Len(t, versionOf(o, "TLS 1.3").Suites, 3)
	assert.Len(t, o.Groups.Accepted, 4)

	older := &tls.Config{Certificates: config.Certificates, MinVersion: tls.VersionTLS10, MaxVersion: tls.VersionTLS12,
		CipherSuites:     []uint16{0xc02f, 0xc030, 0xc013, 0xc014, 0x009c},
		CurvePreferences: []tls.CurveID{tls.X25519, tls.CurveP256, tls.CurveP384, tls.CurveP521}}
	o = observe(t, older, probe.Call{Web: true})
	purposes = nil
	for _, c := range o.Connections {
		purposes = append(purposes, words.Of(c.Purpose))
	}
	assert.LessOrEqual(t, len(o.Connections), 24, strings.Join(purposes, "\n"))
	assert.Len(t, versionOf(o, "TLS 1.2").Suites, 5)
	assert.Len(t, o.Groups.Accepted, 4)
}
