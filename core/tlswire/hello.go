package tlswire

import (
	"bytes"
	"fmt"

	"golang.org/x/crypto/cryptobyte"
)

// ClientHello is what is offered on one connection: one version and everything
// an ordinary client could offer with it.
type ClientHello struct {
	Version    Version
	ServerName string   // "" sends none
	Random     [32]byte // from the caller: this package has no source of its own
	SessionID  [32]byte // sent with TLS 1.3 for middleboxes (RFC 8446, D.4)
	X25519     []byte   // public key share, for TLS 1.3
}

// Record returns the hello as one TLS record (RFC 8446, 4.1.2 and 5.1).
func (h ClientHello) Record() []byte {
	var b cryptobyte.Builder
	b.AddUint8(contentHandshake)
	b.AddUint16(uint16(TLS10)) // the record's version of a first hello (RFC 8446, 5.1)
	b.AddUint16LengthPrefixed(func(record *cryptobyte.Builder) {
		record.AddUint8(messageClientHello)
		record.AddUint24LengthPrefixed(h.body)
	})
	return b.BytesOrPanic()
}

func (h ClientHello) body(b *cryptobyte.Builder) {
	legacy, suites := h.Version, offered12
	if h.Version == TLS13 {
		legacy, suites = TLS12, offered13
	}
	b.AddUint16(uint16(legacy))
	b.AddBytes(h.Random[:])
	b.AddUint8LengthPrefixed(func(id *cryptobyte.Builder) {
		if h.Version == TLS13 {
			id.AddBytes(h.SessionID[:])
		}
	})
	b.AddUint16LengthPrefixed(func(list *cryptobyte.Builder) {
		for _, suite := range suites {
			list.AddUint16(uint16(suite))
		}
	})
	b.AddBytes([]byte{1, 0}) // no compression
	b.AddUint16LengthPrefixed(h.extensions)
}

func (h ClientHello) extensions(b *cryptobyte.Builder) {
	if h.ServerName != "" {
		addExtension(b, extServerName, func(e *cryptobyte.Builder) { // RFC 6066, 3
			e.AddUint16LengthPrefixed(func(list *cryptobyte.Builder) {
				list.AddUint8(0)
				list.AddUint16LengthPrefixed(func(name *cryptobyte.Builder) { name.AddBytes([]byte(h.ServerName)) })
			})
		})
	}
	addExtension(b, extStatusRequest, func(e *cryptobyte.Builder) { e.AddBytes([]byte{1, 0, 0, 0, 0}) }) // OCSP, of any responder (RFC 6066, 8)
	addExtension(b, extSupportedGroups, numbers(offeredGroups))
	if h.Version >= TLS12 {
		addExtension(b, extSignatureAlgorithms, numbers(offeredSignatures))
	}
	if h.Version != TLS13 {
		addExtension(b, extPointFormats, func(e *cryptobyte.Builder) { e.AddBytes([]byte{1, 0}) })
		addExtension(b, extExtendedMasterSecret, func(*cryptobyte.Builder) {})
		addExtension(b, extRenegotiationInfo, func(e *cryptobyte.Builder) { e.AddUint8(0) })
		return
	}
	addExtension(b, extSupportedVersions, func(e *cryptobyte.Builder) {
		e.AddUint8LengthPrefixed(func(list *cryptobyte.Builder) { list.AddUint16(uint16(TLS13)) })
	})
	addExtension(b, extKeyShare, func(e *cryptobyte.Builder) {
		e.AddUint16LengthPrefixed(func(list *cryptobyte.Builder) {
			list.AddUint16(groupX25519)
			list.AddUint16LengthPrefixed(func(key *cryptobyte.Builder) { key.AddBytes(h.X25519) })
		})
	})
}

func addExtension(b *cryptobyte.Builder, id uint16, body func(*cryptobyte.Builder)) {
	b.AddUint16(id)
	b.AddUint16LengthPrefixed(body)
}

func numbers(list []uint16) func(*cryptobyte.Builder) {
	return func(b *cryptobyte.Builder) {
		b.AddUint16LengthPrefixed(func(inner *cryptobyte.Builder) {
			for _, n := range list {
				inner.AddUint16(n)
			}
		})
	}
}

// ServerHello is the part of the answer that tells what was chosen.
type ServerHello struct {
	Version Version // as negotiated, supported_versions considered
	Suite   Suite
	Retry   bool // a HelloRetryRequest (RFC 8446, 4.1.4)
	Status  bool // a revocation answer may follow the certificate, up to TLS 1.2 (RFC 6066, 8)
}

// retryRandom marks a HelloRetryRequest: the SHA-256 of that word (RFC 8446, 4.1.3).
var retryRandom = []byte{
	0xcf, 0x21, 0xad, 0x74, 0xe5, 0x9a, 0x61, 0x11, 0xbe, 0x1d, 0x8c, 0x02, 0x1e, 0x65, 0xb8, 0x91,
	0xc2, 0xa2, 0x11, 0x16, 0x7a, 0xbb, 0x8c, 0x5e, 0x07, 0x9e, 0x09, 0xe2, 0xc8, 0xa8, 0x33, 0x9c,
}

// ParseServerHello decodes the body of a ServerHello. The error is a *BadMessageError.
func ParseServerHello(body []byte) (ServerHello, error) {
	s := cryptobyte.String(body)
	var version, suite uint16
	var random []byte
	var session, extensions cryptobyte.String
	var compression uint8
	if !s.ReadUint16(&version) || !s.ReadBytes(&random, 32) || !s.ReadUint8LengthPrefixed(&session) ||
		!s.ReadUint16(&suite) || !s.ReadUint8(&compression) {
		return ServerHello{}, &BadMessageError{"the ServerHello is cut off"}
	}
	h := ServerHello{Version: Version(version), Suite: Suite(suite), Retry: bytes.Equal(random, retryRandom)}
	if !s.Empty() && (!s.ReadUint16LengthPrefixed(&extensions) || !s.Empty()) {
		return ServerHello{}, &BadMessageError{"the extensions of the ServerHello have a wrong length"}
	}
	for !extensions.Empty() {
		var id uint16
		var value cryptobyte.String
		if !extensions.ReadUint16(&id) || !extensions.ReadUint16LengthPrefixed(&value) {
			return ServerHello{}, &BadMessageError{"an extension of the ServerHello is cut off"}
		}
		if id == extSupportedVersions {
			if !value.ReadUint16(&version) || !value.Empty() {
				return ServerHello{}, &BadMessageError{"the version in the ServerHello is malformed"}
			}
			h.Version = Version(version)
		}
		h.Status = h.Status || id == extStatusRequest
	}
	if h.Version < SSL30 || h.Version > TLS13 {
		return ServerHello{}, &BadMessageError{fmt.Sprintf("the ServerHello names %s", h.Version)}
	}
	return h, nil
}

// ParseCertificates decodes the body of a Certificate message of TLS 1.2 or
// older (RFC 5246, 7.4.2): the DER of each certificate, in order. The error is
// a *BadMessageError.
func ParseCertificates(body []byte) ([][]byte, error) {
	s := cryptobyte.String(body)
	var list cryptobyte.String
	if !s.ReadUint24LengthPrefixed(&list) || !s.Empty() {
		return nil, &BadMessageError{"the Certificate message has a wrong length"}
	}
	var out [][]byte
	for !list.Empty() {
		var der cryptobyte.String
		if !list.ReadUint24LengthPrefixed(&der) {
			return nil, &BadMessageError{"a certificate in the Certificate message is cut off"}
		}
		out = append(out, bytes.Clone(der))
	}
	return out, nil
}

// ParseCertificateStatus decodes the body of a CertificateStatus message (RFC
// 6066, 8): the OCSP response in it. The error is a *BadMessageError.
func ParseCertificateStatus(body []byte) ([]byte, error) {
	s := cryptobyte.String(body)
	var kind uint8
	var response cryptobyte.String
	if !s.ReadUint8(&kind) || kind != 1 || !s.ReadUint24LengthPrefixed(&response) || !s.Empty() {
		return nil, &BadMessageError{"the CertificateStatus message is malformed"}
	}
	return bytes.Clone(response), nil
}
