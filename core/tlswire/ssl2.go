package tlswire

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"

	"golang.org/x/crypto/cryptobyte"
)

// oldCiphers are the cipher kinds of SSL 2.0, each three bytes.
var oldCiphers = map[uint32]string{
	0x010080: "SSL2_RC4_128_WITH_MD5", 0x020080: "SSL2_RC4_128_EXPORT40_WITH_MD5",
	0x030080: "SSL2_RC2_128_CBC_WITH_MD5",
	0x040080: "SSL2_RC2_128_CBC_EXPORT40_WITH_MD5", 0x050080: "SSL2_IDEA_128_CBC_WITH_MD5",
	0x060040: "SSL2_DES_64_CBC_WITH_MD5", 0x0700c0: "SSL2_DES_192_EDE3_CBC_WITH_MD5",
}

// OldAnswer is a SERVER-HELLO of SSL 2.0.
type OldAnswer struct {
	Certificate []byte   // DER
	Ciphers     []string // that both sides know
}

// ExchangeOld sends a hello of SSL 2.0 and reads the answer. Its errors are those of Exchange.
func ExchangeOld(stream io.ReadWriter, challenge [16]byte) (OldAnswer, error) {
	var b cryptobyte.Builder
	b.AddUint8(1) // CLIENT-HELLO
	b.AddUint16(uint16(SSL20))
	b.AddUint16(uint16(3 * len(oldCiphers)))
	b.AddUint16(0) // no session to go on with
	b.AddUint16(uint16(len(challenge)))
	for _, kind := range []uint32{0x0700c0, 0x050080, 0x030080, 0x010080, 0x060040, 0x040080, 0x020080} {
		b.AddUint24(kind)
	}
	b.AddBytes(challenge[:])
	body := b.BytesOrPanic()
	if _, err := stream.Write(append([]byte{0x80 | byte(len(body)>>8), byte(len(body))}, body...)); err != nil {
		return OldAnswer{}, err
	}
	var header [2]byte
	if n, err := io.ReadFull(stream, header[:]); err != nil {
		return OldAnswer{}, (&records{answered: n > 0}).readError(err)
	}
	if header[0]&0x80 == 0 {
		return OldAnswer{}, oldRefusal(stream, header)
	}
	answer := make([]byte, binary.BigEndian.Uint16(header[:])&0x7fff)
	if _, err := io.ReadFull(stream, answer); err != nil {
		return OldAnswer{}, (&records{answered: true}).readError(err)
	}
	return ParseOldAnswer(answer)
}

// oldRefusal makes an error of an answer that is none of SSL 2.0: mostly an alert of a newer version.
func oldRefusal(stream io.Reader, begin [2]byte) error {
	rest := make([]byte, 5)
	n, _ := io.ReadFull(stream, rest)
	all := append(begin[:], rest[:n]...)
	if all[0] == contentAlert && len(all) == 7 {
		return &AlertError{Alert{all[5], all[6]}}
	}
	return &NotTLSError{Begin: all}
}

// ParseOldAnswer decodes a SERVER-HELLO. The error is a *BadMessageError.
func ParseOldAnswer(body []byte) (OldAnswer, error) {
	s := cryptobyte.String(body)
	var kind, hit, certificateKind uint8
	var version, certificateLength, ciphersLength, idLength uint16
	var certificate, ciphers []byte
	if !s.ReadUint8(&kind) || kind != 4 {
		return OldAnswer{}, &BadMessageError{fmt.Sprintf("SSL 2.0 message %d came instead of a SERVER-HELLO", kind)}
	}
	if !s.ReadUint8(&hit) || !s.ReadUint8(&certificateKind) || !s.ReadUint16(&version) ||
		!s.ReadUint16(&certificateLength) ||
		!s.ReadUint16(&ciphersLength) || !s.ReadUint16(&idLength) ||
		!s.ReadBytes(&certificate, int(certificateLength)) || !s.ReadBytes(&ciphers, int(ciphersLength)) {
		return OldAnswer{}, &BadMessageError{"the SERVER-HELLO of SSL 2.0 is cut off"}
	}
	a := OldAnswer{Certificate: bytes.Clone(certificate)}
	for ; len(ciphers) >= 3; ciphers = ciphers[3:] {
		n := uint32(ciphers[0])<<16 | uint32(ciphers[1])<<8 | uint32(ciphers[2])
		name, ok := oldCiphers[n]
		if !ok {
			name = fmt.Sprintf("SSL 2.0 cipher %#06x", n)
		}
		a.Ciphers = append(a.Ciphers, name)
	}
	return a, nil
}
