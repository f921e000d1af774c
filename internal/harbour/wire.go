package harbour

import (
	"bytes"
	"context"
	"crypto"
	"crypto/ecdh"
	"crypto/md5"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"io"
	"math/big"
	"net"
	"slices"
	"time"

	"golang.org/x/crypto/cryptobyte"

	"nurvik/core/tlswire"
)

// wire is a server with a wider past than today's libraries allow. It plays the
// first flight and then hangs up; no connection ever carries anything.
type wire struct {
	versions    []tlswire.Version // that it knows
	suites      []string          // in its order of preference
	clientOrder bool
	plainHello  bool // without renegotiation information and extended master secret
	heartbeat   bool
	compression bool
	prime       *big.Int        // of DHE
	stubborn    bool            // hangs up on hellos with what it does not know
	mute        bool            // does not answer them
	picky       bool            // hangs up after its ServerHello where an application protocol is offered
	willful     string          // a suite that it always chooses
	groups      []tlswire.Group // of ECDHE, in its order of preference
	macLast     bool            // encrypts before it authenticates (RFC 7366)
	fails       int             // suites from which on it refuses a hello
	reads       int             // suites of a hello that it reads; 0 for all
	rigid       bool            // refuses hellos of newer versions than its own
	warns       bool            // warns and hangs up where others refuse
	shares      bool            // refuses hellos of TLS 1.3 without a key share
	most        int             // bytes of a hello that it reads; 0 for any number
	protocol    string          // the application protocol that it chooses, whatever was offered
	modern      *tls.Config     // answers hellos that offer TLS 1.3, beside this server
}

// serve answers one connection with the certificate.
func (w wire) serve(certificate *tls.Certificate) behaviour {
	return func(_ context.Context, conn net.Conn) {
		_ = conn.SetDeadline(time.Now().Add(5 * time.Second))
		var begin [5]byte
		if _, err := io.ReadFull(conn, begin[:2]); err != nil {
			return
		}
		if begin[0]&0x80 != 0 {
			w.old(conn, begin, certificate)
			return
		}
		if _, err := io.ReadFull(conn, begin[2:]); err != nil {
			return
		}
		body := make([]byte, binary.BigEndian.Uint16(begin[3:]))
		if _, err := io.ReadFull(conn, body); err != nil {
			return
		}
		hello, ok := readHello(body)
		if !ok || w.most > 0 && len(body) > w.most {
			return
		}
		if w.reads > 0 {
			hello.suites = hello.suites[:min(len(hello.suites), w.reads)]
		}
		if w.mute && hello.unknown {
			_, _ = io.Copy(io.Discard, conn) // until the other side gives up
			return
		}
		if w.modern != nil && slices.Contains(hello.versions, tlswire.TLS13) {
			library := w.modern.Clone()
			library.Certificates = []tls.Certificate{*certificate}
			if w.picky && hello.protocols {
				conn = firstRecord{conn}
			}
			if w.shares && !hello.share {
				_, _ = conn.Write([]byte{21, 3, 3, 0, 2, 2, 47}) // illegal_parameter
				return
			}
			// whoever has hung up needs no answer
			_ = tls.Server(&replay{conn, slices.Concat(begin[:], body)}, library).Handshake()
			return
		}
		if w.stubborn && hello.unknown {
			return
		}
		answer := w.answer(hello, certificate)
		switch {
		case answer == nil && w.warns:
			_, _ = conn.Write([]byte{21, 3, 1, 0, 2, 1,
				41}) // no_certificate, of which SSL 3.0 says that it is a warning
			return
		case answer == nil:
			answer = []byte{21, 3, 1, 0, 2, 2, 40} // handshake_failure
		}
		_, _ = conn.Write(answer)                           // whoever has hung up needs no answer
		_, _ = io.Copy(io.Discard, io.LimitReader(conn, 1)) // the other side ends it
	}
}

// old answers a hello of SSL 2.0, where that is known.
func (w wire) old(conn net.Conn, begin [5]byte, certificate *tls.Certificate) {
	rest := make([]byte, int(begin[0]&0x7f)<<8|int(begin[1]))
	if _, err := io.ReadFull(conn, rest); err != nil || !slices.Contains(w.versions, tlswire.SSL20) {
		return
	}
	der := certificate.Certificate[0]
	body := []byte{4, 0, 1, 0, 2, byte(len(der) >> 8), byte(len(der)), 0, 6, 0, 16}
	body = slices.Concat(body, der, []byte{7, 0, 0xc0, 1, 0, 0x80}, make([]byte, 16))
	_, _ = conn.Write(append([]byte{0x80 | byte(len(body)>>8), byte(len(body))}, body...))
}

// firstRecord sends the first record alone and hangs up.
type firstRecord struct{ net.Conn }

func (f firstRecord) Write(p []byte) (int, error) {
	if len(p) > 5 {
		_, _ = f.Conn.Write(p[:min(len(p), 5+int(binary.BigEndian.Uint16(p[3:])))])
	}
	return 0, errors.Join(net.ErrClosed, f.Close())
}

// offer is what the server needs of a ClientHello.
type offer struct {
	version     tlswire.Version
	random      []byte
	suites      []tlswire.Suite
	compression []byte
	unknown     bool // reserved values are offered
	protocols   bool // application protocols are offered
	share       bool // a key share is sent
	heartbeat   bool
	macLast     bool
	session     []byte
	versions    []tlswire.Version // of the extension
	groups      []tlswire.Group
}

// replay is a connection of which the begin was read already.
type replay struct {
	net.Conn
	begin []byte
}

func (r *replay) Read(p []byte) (int, error) {
	if len(r.begin) == 0 {
		return r.Conn.Read(p)
	}
	n := copy(p, r.begin)
	r.begin = r.begin[n:]
	return n, nil
}

func readHello(body []byte) (o offer, ok bool) {
	s := cryptobyte.String(body)
	var kind uint8
	var message, session, suites, compression, extensions cryptobyte.String
	var version uint16
	if !s.ReadUint8(&kind) || kind != 1 || !s.ReadUint24LengthPrefixed(&message) || !message.ReadUint16(&version) ||
		!message.ReadBytes(&o.random, 32) ||
		!message.ReadUint8LengthPrefixed(&session) || !message.ReadUint16LengthPrefixed(&suites) ||
		!message.ReadUint8LengthPrefixed(&compression) {
		return o, false
	}
	o.version, o.compression, o.session = tlswire.Version(version), compression, session
	for !suites.Empty() {
		var suite uint16
		if !suites.ReadUint16(&suite) {
			return o, false
		}
		o.suites = append(o.suites, tlswire.Suite(suite))
		o.unknown = o.unknown || suite&0x0f0f == 0x0a0a && suite>>8 == suite&0xff
	}
	if message.ReadUint16LengthPrefixed(&extensions) {
		for !extensions.Empty() {
			var id uint16
			var value cryptobyte.String
			if !extensions.ReadUint16(&id) || !extensions.ReadUint16LengthPrefixed(&value) {
				return o, false
			}
			o.heartbeat = o.heartbeat || id == 15
			o.protocols = o.protocols || id == 16
			o.macLast = o.macLast || id == 22
			var list cryptobyte.String
			switch id {
			case 10:
				if value.ReadUint16LengthPrefixed(&list) {
					o.groups = numbers[tlswire.Group](list)
				}
			case 51:
				o.share = len(value) > 2
			case 43:
				if value.ReadUint8LengthPrefixed(&list) {
					o.versions = numbers[tlswire.Version](list)
				}
			}
		}
	}
	return o, true
}

func numbers[T ~uint16](list cryptobyte.String) (out []T) {
	var n uint16
	for list.ReadUint16(&n) {
		out = append(out, T(n))
	}
	return out
}

// answer makes the records of the first flight; nil refuses.
func (w wire) answer(o offer, certificate *tls.Certificate) []byte {
	version := tlswire.Version(0)
	for _, v := range w.versions {
		if v <= o.version && v > version && v != tlswire.SSL20 {
			version = v
		}
	}
	suite, ok := w.choose(o)
	if version == 0 || !ok || w.rigid && o.version > version || w.fails > 0 && len(o.suites) >= w.fails {
		return nil
	}
	random := make([]byte, 32)
	_, _ = rand.Read(random) // crypto/rand never fails
	p := suite.Properties()
	messages := w.serverHello(version, random, suite, o)
	if p.Authentication != "anonymous" {
		var b cryptobyte.Builder
		b.AddUint24LengthPrefixed(func(list *cryptobyte.Builder) {
			for _, der := range certificate.Certificate {
				list.AddUint24LengthPrefixed(func(c *cryptobyte.Builder) { c.AddBytes(der) })
			}
		})
		messages = append(messages, handshakeMessage(11, b.BytesOrPanic())...)
	}
	switch p.KeyExchange {
	case "DHE", "DH":
		messages = append(messages, handshakeMessage(12,
			w.exchange(version, p.Authentication != "anonymous", o.random, random, w.finite(), certificate))...)
	case "ECDHE":
		messages = append(messages, handshakeMessage(12,
			w.exchange(version, true, o.random, random, w.elliptic(o), certificate))...)
	}
	messages = append(messages, handshakeMessage(14, nil)...)
	return append([]byte{22, byte(version >> 8), byte(version), byte(len(messages) >> 8), byte(len(messages))},
		messages...)
}

func (w wire) choose(o offer) (tlswire.Suite, bool) {
	offered := o.suites
	if w.willful != "" {
		return tlswire.SuiteNamed(w.willful)
	}
	var mine []tlswire.Suite
	for _, name := range w.suites {
		if s, ok := tlswire.SuiteNamed(name); ok && (s.Properties().KeyExchange != "ECDHE" || w.group(o) != 0) {
			mine = append(mine, s)
		}
	}
	first, second := mine, offered
	if w.clientOrder {
		first, second = offered, mine
	}
	for _, s := range first {
		if slices.Contains(second, s) {
			return s, true
		}
	}
	return 0, false
}

func (w wire) serverHello(version tlswire.Version, random []byte, suite tlswire.Suite, o offer) []byte {
	var b cryptobyte.Builder
	b.AddUint16(uint16(version))
	b.AddBytes(random)
	b.AddUint8(0)
	b.AddUint16(uint16(suite))
	method := byte(0)
	if w.compression && bytes.IndexByte(o.compression, 1) >= 0 {
		method = 1
	}
	b.AddUint8(method)
	last := w.macLast && o.macLast && !suite.Properties().Authenticated
	if version > tlswire.SSL30 && (!w.plainHello || w.heartbeat || last) {
		b.AddUint16LengthPrefixed(func(e *cryptobyte.Builder) {
			if !w.plainHello {
				e.AddBytes([]byte{0xff, 1, 0, 1, 0, 0, 23, 0, 0})
			}
			if w.heartbeat && o.heartbeat {
				e.AddBytes([]byte{0, 15, 0, 1, 1})
			}
			if w.protocol != "" { // RFC 7301, 3.1
				e.AddUint16(16)
				e.AddUint16LengthPrefixed(func(x *cryptobyte.Builder) {
					x.AddUint16LengthPrefixed(func(list *cryptobyte.Builder) {
						list.AddUint8LengthPrefixed(func(p *cryptobyte.Builder) { p.AddBytes([]byte(w.protocol)) })
					})
				})
			}
			if last {
				e.AddBytes([]byte{0, 22, 0, 0})
			}
		})
	}
	return handshakeMessage(2, b.BytesOrPanic())
}

// finite are the parameters of DHE.
func (w wire) finite() []byte {
	prime := w.prime
	if prime == nil {
		prime = new(big.Int).SetBytes(bytes.Repeat([]byte{0xfb}, 256))
	}
	var b cryptobyte.Builder
	for _, n := range [][]byte{prime.Bytes(), {2}, new(big.Int).Rsh(prime, 1).Bytes()} {
		b.AddUint16LengthPrefixed(func(v *cryptobyte.Builder) { v.AddBytes(n) })
	}
	return b.BytesOrPanic()
}

// group is the one for ECDHE, 0 for none.
func (w wire) group(o offer) tlswire.Group {
	first, second := w.groups, o.groups
	if w.clientOrder {
		first, second = second, first
	}
	for _, g := range first {
		if slices.Contains(second, g) {
			return g
		}
	}
	return 0
}

// elliptic are the parameters of ECDHE.
func (w wire) elliptic(o offer) []byte {
	group := w.group(o)
	curve := ecdh.P256()
	if group == tlswire.X25519 {
		curve = ecdh.X25519()
	}
	key, err := curve.GenerateKey(rand.Reader)
	if err != nil {
		return nil
	}
	public := key.PublicKey().Bytes()
	return slices.Concat([]byte{3, byte(group >> 8), byte(group), byte(len(public))}, public)
}

// exchange is a ServerKeyExchange with the parameters, signed unless it is anonymous.
func (w wire) exchange(version tlswire.Version, signed bool, client, server, params []byte,
	certificate *tls.Certificate) []byte {
	key, ok := certificate.PrivateKey.(*rsa.PrivateKey)
	if !signed || !ok {
		return params
	}
	all := slices.Concat(client, server, params)
	hash, digest, scheme := crypto.SHA256, sha256.Sum256(all), []byte{4, 1}
	sum := digest[:]
	if version < tlswire.TLS12 {
		first, second := md5.Sum(all), sha1.Sum(all)
		hash, sum, scheme = crypto.MD5SHA1, slices.Concat(first[:], second[:]), nil
	}
	signature, err := rsa.SignPKCS1v15(rand.Reader, key, hash, sum)
	if err != nil {
		return params
	}
	return slices.Concat(params, scheme, []byte{byte(len(signature) >> 8), byte(len(signature))}, signature)
}

func handshakeMessage(kind byte, body []byte) []byte {
	return append([]byte{kind, byte(len(body) >> 16), byte(len(body) >> 8), byte(len(body))}, body...)
}
