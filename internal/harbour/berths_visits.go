package harbour

import (
	"bufio"
	"context"
	"crypto/tls"
	"encoding/binary"
	"io"
	"net"
	"sync"
	"time"

	"nurvik/core/tlswire"
)

// door is who is let in: so many connections in a time, or so many of one visit, and then none.
type door struct {
	most   int           // that are let in
	within time.Duration // 0 for the whole visit
	words  string        // that turn the others away
}

// idle is how long nobody comes between two visits at least: whoever looks whether the door is open again comes sooner.
const idle = 6 * time.Second

// before lets connections in to the server as the door wants it.
func (d door) before(serve behaviour) behaviour {
	var mutex sync.Mutex
	var in []time.Time // when those were let in that count
	var last time.Time
	opens := func(begins bool) bool {
		mutex.Lock()
		defer mutex.Unlock()
		now := time.Now()
		if d.within == 0 && (begins || now.Sub(last) > idle) {
			in = nil
		}
		for last = now; len(in) > 0 && d.within > 0 && now.Sub(in[0]) > d.within; {
			in = in[1:]
		}
		if len(in) < d.most {
			in = append(in, now)
			return true
		}
		return false
	}
	return func(ctx context.Context, conn net.Conn) {
		begins := false
		if d.words == "" && d.within == 0 {
			begin, hello, ok := peekHello(conn)
			if begins = hello.unknown; !ok { // a visit begins with reserved values
				return
			}
			conn = &replay{conn, begin}
		}
		if !opens(begins) {
			_, _ = io.WriteString(conn, d.words) // whoever has hung up needs no answer
			return
		}
		serve(ctx, conn)
	}
}

// peekHello reads the record with the hello that a connection begins with.
func peekHello(conn net.Conn) (record []byte, hello offer, ok bool) {
	_ = conn.SetDeadline(time.Now().Add(5 * time.Second))
	record = make([]byte, 5)
	if _, err := io.ReadFull(conn, record); err != nil {
		return nil, offer{}, false
	}
	record = append(record, make([]byte, binary.BigEndian.Uint16(record[3:]))...)
	if _, err := io.ReadFull(conn, record[5:]); err != nil {
		return nil, offer{}, false
	}
	hello, ok = readHello(record[5:])
	return record, hello, ok
}

// atOnce is the dialogue of what begins with TLS.
func atOnce(*bufio.Reader, io.Writer) bool { return true }

// preferring serves the EC key as long as any suite for such keys is offered, whether it has that or not, and an RSA
// key with an expired certificate to others.
func preferring(c *tls.Config, i *issuers, b berth) error {
	b.key, b.leaf = rsaKey(2048), lasting(-200*dayLong, -3*dayLong)
	other, err := b.certificate(i)
	if err != nil {
		return err
	}
	mine := c.Certificates[0]
	c.Certificates = nil
	c.GetCertificate = func(h *tls.ClientHelloInfo) (*tls.Certificate, error) {
		for _, s := range h.CipherSuites {
			if tlswire.Suite(s).Properties().Authentication == "ECDSA" {
				return &mine, nil
			}
		}
		return other, nil
	}
	return nil
}

// lopsided has an RSA key too, without its intermediates, which TLS 1.2 never shows.
func lopsided(c *tls.Config, i *issuers, b berth) error {
	b.key, b.chain = rsaKey(2048), func(c [][]byte, _ *issuers) [][]byte { return c[:1] }
	other, err := b.certificate(i)
	if err != nil {
		return err
	}
	c.Certificates, c.CipherSuites = append(c.Certificates, *other), []uint16{0xc02b, 0xc02c}
	return nil
}

// edwards has an Ed25519 key too, without its intermediates.
func edwards(c *tls.Config, i *issuers, b berth) error {
	b.key, b.chain = (*keyring).edwards, func(c [][]byte, _ *issuers) [][]byte { return c[:1] }
	other, err := b.certificate(i)
	if err != nil {
		return err
	}
	c.Certificates = append(c.Certificates, *other)
	return nil
}

// unheardOf answers in a version that there is not.
func unheardOf(_ context.Context, conn net.Conn) {
	if _, ok := firstHello(conn); !ok {
		return
	}
	hello := handshakeMessage(2, append(append([]byte{3, 9}, make([]byte, 33)...), 0, 0x9c, 0))
	_, _ = conn.Write(append([]byte{22, 3, 3, 0, byte(len(hello))}, hello...)) // whoever has hung up needs no answer
}

// visitBerths are endpoints that are hard to visit rightly: of any age, with several keys, or with few connections.
func visitBerths() []berth {
	const static, modern = "TLS_RSA_WITH_AES_128_CBC_SHA", "TLS_DHE_RSA_WITH_AES_128_GCM_SHA256"
	old := func(w wire) *wire {
		w.suites, w.prime = append(w.suites, modern), ffdhe2048()
		if len(w.versions) == 0 {
			w.versions = []tlswire.Version{tlswire.TLS12}
		}
		return &w
	}
	return []berth{
		{host: "limpet", about: "reads hellos of 512 bytes and no more", addresses: []string{"127.30.12.1"},
			key: rsaKey(2048), wire: old(wire{most: 512})},
		{host: "barnacle", about: "fails at 128 cipher suites", addresses: []string{"127.30.12.2"}, key: rsaKey(2048),
			wire: old(wire{fails: 128})},
		{host: "periwinkle", about: "reads the first 64 cipher suites", addresses: []string{"127.30.12.3"},
			key: rsaKey(2048), wire: old(wire{reads: 64, suites: []string{"TLS_DHE_RSA_WITH_AES_256_GCM_SHA384",
				"TLS_PSK_WITH_NULL_SHA"}})},
		{host: "pinnace", about: "TLS 1.0 alone, and refuses who knows newer versions",
			addresses: []string{"127.30.12.4"}, key: rsaKey(2048),
			wire: &wire{versions: []tlswire.Version{tlswire.TLS10}, rigid: true, suites: []string{static}}},
		{host: "coracle", about: "SSL 3.0 alone, and refuses who knows newer versions",
			addresses: []string{"127.30.12.5"}, key: rsaKey(2048),
			wire: &wire{versions: []tlswire.Version{tlswire.SSL30}, rigid: true, suites: []string{static}}},
		{host: "pledge", about: "TLS 1.3, refuses hellos without a key share", addresses: []string{"127.30.12.6"},
			wire: &wire{modern: &tls.Config{MinVersion: tls.VersionTLS13}, shares: true}},
		{host: "grumble", about: "warns and hangs up where others refuse", addresses: []string{"127.30.12.7"},
			key: rsaKey(2048), wire: old(wire{warns: true})},
		{host: "oracle", about: "answers with a version that nobody knows", addresses: []string{"127.30.12.8"},
			behave: unheardOf},
		{host: "escort", about: "refuses whoever names it", addresses: []string{"127.30.12.9"},
			config: func(c *tls.Config, _ *issuers, _ berth) error {
				c.GetConfigForClient = func(h *tls.ClientHelloInfo) (*tls.Config, error) {
					if h.ServerName != "" {
						return nil, io.EOF // which the library answers with an alert
					}
					return nil, nil
				}
				return nil
			}},

		{host: "ensign", about: "an EC key, and an RSA key whose certificate has expired",
			addresses: []string{"127.30.12.10"}, max: tls.VersionTLS12, config: preferring},
		{host: "halyard", about: "an EC key, and in TLS 1.3 an RSA key without its intermediates",
			addresses: []string{"127.30.12.11"}, config: lopsided},
		{host: "tiller", about: "an EC key, and an Ed25519 key without its intermediates",
			addresses: []string{"127.30.12.12"}, config: edwards},
		{host: "gangway", about: "HTTP/2 alone", addresses: []string{"127.30.12.13"},
			config: func(c *tls.Config, _ *issuers, _ berth) error { c.NextProtos = []string{"h2"}; return nil }},

		{host: "turnpike", about: "eight connections in two seconds", addresses: []string{"127.30.12.14"},
			door: &door{most: 8, within: 2 * time.Second}},
		{host: "ration", about: "six connections, and then none", addresses: []string{"127.30.12.15"},
			door: &door{most: 6}},
		{host: "doorkeeper", about: "mail: three connections, and then 421", addresses: []string{"127.30.12.16"},
			scheme: "smtp", door: &door{most: 3, words: "421 4.7.0 too many connections\r\n"}},
		{host: "queue", about: "mail that is busy", addresses: []string{"127.30.12.17"}, scheme: "submission",
			door: &door{words: "421 4.3.2 come back later\r\n"}},
		{host: "stocktake", about: "a database that has locked this host out", addresses: []string{"127.30.12.18"},
			scheme: "mysql",
			door:   &door{words: "\x1f\x00\x00\x00\xff\x69\x04Host 'pilot' is blocked; ask"}},
	}
}
