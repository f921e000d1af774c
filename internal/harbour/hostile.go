package harbour

import (
	"bufio"
	"context"
	"encoding/binary"
	"io"
	"net"
	"nurvik/core/tlswire"
	"slices"
	"time"

	"golang.org/x/crypto/cryptobyte"
)

// patience is how long a hostile endpoint holds on to a connection.
const patience = time.Minute

// torrent answers with records that never end the handshake.
func torrent(_ context.Context, conn net.Conn) {
	_ = conn.SetDeadline(time.Now().Add(5 * time.Second))
	if _, err := io.ReadFull(conn, make([]byte, 5)); err != nil {
		return
	}
	for range 2000 { // warnings that a client may pass over (RFC 5246, 7.2.2)
		if _, err := conn.Write([]byte{21, 3, 3, 0, 2, 1, 90}); err != nil {
			return
		}
	}
}

// firstHello reads the hello that a connection begins with.
func firstHello(conn net.Conn) (offer, bool) {
	_ = conn.SetDeadline(time.Now().Add(patience))
	var header [5]byte
	if _, err := io.ReadFull(conn, header[:]); err != nil {
		return offer{}, false
	}
	body := make([]byte, binary.BigEndian.Uint16(header[3:]))
	if _, err := io.ReadFull(conn, body); err != nil {
		return offer{}, false
	}
	return readHello(body)
}

// drip begins a large record and sends a byte of it now and then.
func drip(ctx context.Context, conn net.Conn) {
	if _, ok := firstHello(conn); !ok {
		return
	}
	bytes := append([]byte{22, 3, 3, 0x40, 0}, make([]byte, 1<<14)...)
	for _, b := range bytes {
		if _, err := conn.Write([]byte{b}); err != nil {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// swell sends records without end that say nothing.
func swell(_ context.Context, conn net.Conn) {
	if _, ok := firstHello(conn); !ok {
		return
	}
	for range 100_000 {
		if _, err := conn.Write([]byte{20, 3, 3, 0, 1, 1}); err != nil {
			return
		}
	}
}

// whirlpool asks for another hello again and again (RFC 8446, 4.1.4 allows it once).
func whirlpool(_ context.Context, conn net.Conn) {
	hello, ok := firstHello(conn)
	record := retryFor(hello, tlswire.P384)
	for ok {
		if _, err := conn.Write(record); err != nil {
			return
		}
		_, err := bufio.NewReader(conn).Peek(1)
		ok = err == nil
	}
}

// riddle insists on a group that hardly any client has.
func riddle(_ context.Context, conn net.Conn) {
	const brainpoolP256 tlswire.Group = 31 // RFC 8734
	hello, ok := firstHello(conn)
	answer := []byte{21, 3, 3, 0, 2, 2, 70} // protocol_version
	if ok && slices.Contains(hello.versions, tlswire.TLS13) {
		answer = []byte{21, 3, 3, 0, 2, 2, 40} // handshake_failure
		if slices.Contains(hello.groups, brainpoolP256) && slices.Contains(hello.suites, 0x1301) {
			answer = retryFor(hello, brainpoolP256)
		}
	}
	_, _ = conn.Write(answer) // whoever has hung up needs no answer
	_, _ = io.Copy(io.Discard, conn)
}

// bouncer lets nobody in.
func bouncer(_ context.Context, conn net.Conn) {
	if _, ok := firstHello(conn); ok {
		_, _ = conn.Write([]byte{21, 3, 1, 0, 2, 2, 49}) // access_denied; whoever has hung up needs no answer
		_, _ = io.Copy(io.Discard, conn)
	}
}

// retryFor is a HelloRetryRequest for a share in the group.
func retryFor(hello offer, group tlswire.Group) []byte {
	var b cryptobyte.Builder
	b.AddUint16(0x0303)
	b.AddBytes([]byte{ // what makes a ServerHello a HelloRetryRequest (RFC 8446, 4.1.3)
		0xcf, 0x21, 0xad, 0x74, 0xe5, 0x9a, 0x61, 0x11, 0xbe, 0x1d, 0x8c, 0x02, 0x1e, 0x65, 0xb8, 0x91,
		0xc2, 0xa2, 0x11, 0x16, 0x7a, 0xbb, 0x8c, 0x5e, 0x07, 0x9e, 0x09, 0xe2, 0xc8, 0xa8, 0x33, 0x9c,
	})
	b.AddUint8LengthPrefixed(func(id *cryptobyte.Builder) { id.AddBytes(hello.session) })
	b.AddBytes([]byte{0x13, 0x01, 0})
	b.AddUint16LengthPrefixed(func(e *cryptobyte.Builder) {
		e.AddBytes([]byte{0, 43, 0, 2, 3, 4, 0, 51, 0, 2, byte(group >> 8), byte(group)}) // TLS 1.3, and the share
	})
	message := handshakeMessage(2, b.BytesOrPanic())
	return append([]byte{22, 3, 3, 0, byte(len(message))}, message...)
}

// flight is a ServerHello of TLS 1.2 and the begin of a Certificate message.
func flight(certificate []byte) behaviour {
	return func(_ context.Context, conn net.Conn) {
		if _, ok := firstHello(conn); !ok {
			return
		}
		hello := append(append([]byte{3, 3}, make([]byte, 32)...), 0, 0xc0, 0x2f, 0)
		messages := append(handshakeMessage(2, hello), certificate...)
		// whoever has hung up needs no answer
		_, _ = conn.Write(append([]byte{22, 3, 3, 0, byte(len(messages))}, messages...))
		_, _ = io.Copy(io.Discard, conn)
	}
}

// gossip greets without end.
func gossip(_ *bufio.Reader, out io.Writer) bool {
	for range 1000 {
		if _, err := io.WriteString(out, "220-and another thing\r\n"); err != nil {
			return false
		}
	}
	return false
}
