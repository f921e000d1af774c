package tlswire

import (
	"bytes"
	"slices"

	"golang.org/x/crypto/cryptobyte"
)

// ClientHello is what is offered on one connection. Every part is what an
// ordinary client could send; the zero value of a field leaves it out.
type ClientHello struct {
	Versions   []Version // newest first; TLS 1.3 among them brings the extension supported_versions
	Suites     []Suite
	Groups     []Group
	Shares     []KeyShare // for TLS 1.3
	Signatures []SignatureScheme
	ServerName string
	Protocols  []string // ALPN (RFC 7301)
	Random     [32]byte // from the caller: this package has no source of its own
	SessionID  []byte   // sent with TLS 1.3 for middleboxes (RFC 8446, D.4)
	Cookie     []byte   // of a HelloRetryRequest

	Compression bool // offer DEFLATE (RFC 3749) beside none
	Heartbeat   bool // RFC 6520
	MACFirst    bool // leave encrypt-then-MAC (RFC 7366) out
	Signals     []Suite
	Ticket      []byte         // to resume with, up to TLS 1.2
	Resume      *SessionTicket // to resume with in TLS 1.3
	Grease      bool           // reserved values of each kind, which are to be ignored (RFC 8701)
	Padding     int            // bytes of padding (RFC 7685)
}

// KeyShare is a public value in a group (RFC 8446, 4.2.8).
type KeyShare struct {
	Group Group
	Data  []byte
}

// Offers reports whether the hello offers the version.
func (h ClientHello) Offers(v Version) bool { return slices.Contains(h.Versions, v) }

// Highest is the newest version offered.
func (h ClientHello) Highest() Version { return slices.Max(h.Versions) }

// greases are reserved values, one for each place where it is sent.
const greaseSuite, greaseGroup, greaseExtension, greaseVersion = 0x0a0a, 0x1a1a, 0x2a2a, 0x3a3a

// usualHello is more bytes than most hellos have.
const usualHello = 1024

// Message returns the hello as a handshake message (RFC 8446, 4.1.2).
func (h ClientHello) Message() []byte { return h.messageAfter(nil) }

// messageAfter is the message behind a transcript, which counts for a binder alone.
func (h ClientHello) messageAfter(transcript []byte) []byte {
	b := cryptobyte.NewBuilder(make([]byte, 0, usualHello+h.Padding))
	b.AddUint8(messageClientHello)
	b.AddUint24LengthPrefixed(h.body)
	message := b.BytesOrPanic()
	if h.Resume != nil {
		h.bind(transcript, message)
	}
	return message
}

// Record returns the hello as TLS records (RFC 8446, 5.1).
func (h ClientHello) Record() []byte { return h.record(h.Message()) }

// record wraps the message, which was made before.
func (h ClientHello) record(message []byte) []byte {
	version := TLS10 // of the records of a first hello, which old servers look at
	if h.Highest() == SSL30 {
		version = SSL30
	}
	out := make([]byte, 0, len(message)+16)
	for part := range slices.Chunk(message, 1<<14) {
		out = append(out, contentHandshake, byte(version>>8), byte(version), byte(len(part)>>8), byte(len(part)))
		out = append(out, part...)
	}
	return out
}

func (h ClientHello) body(b *cryptobyte.Builder) {
	b.AddUint16(uint16(min(h.Highest(), TLS12)))
	b.AddBytes(h.Random[:])
	b.AddUint8LengthPrefixed(func(id *cryptobyte.Builder) { id.AddBytes(h.SessionID) })
	b.AddUint16LengthPrefixed(func(list *cryptobyte.Builder) {
		if h.Grease {
			list.AddUint16(greaseSuite)
		}
		for _, suite := range slices.Concat(h.Suites, h.Signals) {
			list.AddUint16(uint16(suite))
		}
	})
	if h.Compression {
		b.AddBytes([]byte{2, 1, 0})
	} else {
		b.AddBytes([]byte{1, 0})
	}
	if h.Highest() > SSL30 {
		b.AddUint16LengthPrefixed(h.extensions)
	}
}

func (h ClientHello) extensions(b *cryptobyte.Builder) {
	old := slices.ContainsFunc(h.Versions, func(v Version) bool { return v < TLS13 })
	if h.Grease {
		addBytes(b, greaseExtension)
	}
	if h.ServerName != "" {
		addExtension(b, extServerName, func(e *cryptobyte.Builder) { // RFC 6066, 3
			e.AddUint16LengthPrefixed(func(list *cryptobyte.Builder) {
				list.AddUint8(0)
				list.AddUint16LengthPrefixed(func(name *cryptobyte.Builder) { name.AddBytes([]byte(h.ServerName)) })
			})
		})
	}
	// OCSP, of any responder (RFC 6066, 8)
	addBytes(b, extStatusRequest, 1, 0, 0, 0, 0)
	addBytes(b, extTimestamps)
	if len(h.Groups) > 0 {
		groups := h.Groups
		if h.Grease {
			groups = append([]Group{greaseGroup}, h.Groups...)
		}
		addNumbers(b, extSupportedGroups, groups)
	}
	if h.Highest() >= TLS12 && len(h.Signatures) > 0 {
		addNumbers(b, extSignatureAlgorithms, h.Signatures)
	}
	if len(h.Protocols) > 0 {
		addExtension(b, extALPN, func(e *cryptobyte.Builder) {
			e.AddUint16LengthPrefixed(func(list *cryptobyte.Builder) {
				for _, p := range h.Protocols {
					list.AddUint8LengthPrefixed(func(name *cryptobyte.Builder) { name.AddBytes([]byte(p)) })
				}
			})
		})
	}
	if old {
		addBytes(b, extPointFormats, 1, 0)
		addBytes(b, extExtendedMaster)
		if !h.MACFirst {
			addBytes(b, extEncryptThenMAC)
		}
		addBytes(b, extSessionTicket, h.Ticket...)
		addBytes(b, extRenegotiation, 0)
		if h.Heartbeat {
			addBytes(b, extHeartbeat, 2) // the peer may not send any to us
		}
	}
	if h.Offers(TLS13) {
		h.modern(b)
	}
	if h.Padding > 0 {
		addBytes(b, extPadding, make([]byte, h.Padding)...)
	}
	if h.Resume != nil {
		h.preShared(b)
	}
}

// modern adds the extensions of TLS 1.3.
func (h ClientHello) modern(b *cryptobyte.Builder) {
	addExtension(b, extSupportedVersions, func(e *cryptobyte.Builder) {
		e.AddUint8LengthPrefixed(func(list *cryptobyte.Builder) {
			if h.Grease {
				list.AddUint16(greaseVersion)
			}
			for _, v := range h.Versions {
				list.AddUint16(uint16(v))
			}
		})
	})
	addBytes(b, extPSKModes, 1, 1)
	addExtension(b, extKeyShare, func(e *cryptobyte.Builder) {
		e.AddUint16LengthPrefixed(func(list *cryptobyte.Builder) {
			for _, share := range h.Shares {
				list.AddUint16(uint16(share.Group))
				list.AddUint16LengthPrefixed(func(key *cryptobyte.Builder) { key.AddBytes(share.Data) })
			}
		})
	})
	if len(h.Cookie) > 0 {
		addExtension(b, extCookie, func(e *cryptobyte.Builder) {
			e.AddUint16LengthPrefixed(func(c *cryptobyte.Builder) { c.AddBytes(h.Cookie) })
		})
	}
}

func addExtension(b *cryptobyte.Builder, id Extension, body func(*cryptobyte.Builder)) {
	b.AddUint16(uint16(id))
	b.AddUint16LengthPrefixed(body)
}

// addBytes adds an extension whose body is known, without the cost of a nested builder.
func addBytes(b *cryptobyte.Builder, id Extension, body ...byte) {
	b.AddUint16(uint16(id))
	b.AddUint16(uint16(len(body)))
	b.AddBytes(body)
}

// addNumbers adds an extension that is a list of numbers.
func addNumbers[T ~uint16](b *cryptobyte.Builder, id Extension, list []T) {
	b.AddUint16(uint16(id))
	b.AddUint16(uint16(2 + 2*len(list)))
	b.AddUint16(uint16(2 * len(list)))
	for _, n := range list {
		b.AddUint16(uint16(n))
	}
}

// ServerHello is the answer: what was chosen (RFC 8446, 4.1.3; RFC 5246, 7.4.1.3).
type ServerHello struct {
	Version     Version // as negotiated, supported_versions considered
	Random      [32]byte
	SessionID   []byte
	Suite       Suite
	Compression byte
	Retry       bool     // a HelloRetryRequest (RFC 8446, 4.1.4)
	Share       KeyShare // in TLS 1.3; of a HelloRetryRequest the group alone
	Cookie      []byte
	Extensions  map[Extension][]byte
}

// Has reports whether the extension was answered.
func (h ServerHello) Has(e Extension) bool { _, ok := h.Extensions[e]; return ok }

// Protocol is the application protocol that was chosen up to TLS 1.2.
func (h ServerHello) Protocol() string { return protocolIn(h.Extensions[extALPN]) }

func protocolIn(value []byte) string {
	s := cryptobyte.String(value)
	var list, name cryptobyte.String
	if !s.ReadUint16LengthPrefixed(&list) || !list.ReadUint8LengthPrefixed(&name) {
		return ""
	}
	return string(name)
}

// Facts that extensions and signals of a ServerHello up to TLS 1.2 show.
func (h ServerHello) Renegotiation() bool   { return h.Has(extRenegotiation) }  // RFC 5746
func (h ServerHello) ExtendedMaster() bool  { return h.Has(extExtendedMaster) } // RFC 7627
func (h ServerHello) EncryptThenMAC() bool  { return h.Has(extEncryptThenMAC) } // RFC 7366
func (h ServerHello) TicketPromised() bool  { return h.Has(extSessionTicket) }  // RFC 5077
func (h ServerHello) Heartbeat() bool       { return h.Has(extHeartbeat) }      // RFC 6520
func (h ServerHello) DowngradeMarker() bool { return bytes.HasPrefix(h.Random[24:], []byte("DOWNGRD")) }

// retryRandom marks a HelloRetryRequest: the SHA-256 of that word (RFC 8446, 4.1.3).
var retryRandom = []byte{
	0xcf, 0x21, 0xad, 0x74, 0xe5, 0x9a, 0x61, 0x11, 0xbe, 0x1d, 0x8c, 0x02, 0x1e, 0x65, 0xb8, 0x91,
	0xc2, 0xa2, 0x11, 0x16, 0x7a, 0xbb, 0x8c, 0x5e, 0x07, 0x9e, 0x09, 0xe2, 0xc8, 0xa8, 0x33, 0x9c,
}

// ParseServerHello decodes the body of a ServerHello. The error is a *BadMessageError, or a *NotOfferedError where it
// names a version that nobody offers.
func ParseServerHello(body []byte) (ServerHello, error) {
	s := cryptobyte.String(body)
	var version, suite uint16
	var random []byte
	var session cryptobyte.String
	h := ServerHello{}
	if !s.ReadUint16(&version) || !s.ReadBytes(&random, 32) || !s.ReadUint8LengthPrefixed(&session) ||
		!s.ReadUint16(&suite) || !s.ReadUint8(&h.Compression) {
		return h, &BadMessageError{"the ServerHello is cut off"}
	}
	h.Version, h.Suite, h.SessionID = Version(version), Suite(suite), bytes.Clone(session)
	copy(h.Random[:], random)
	h.Retry = bytes.Equal(random, retryRandom)
	var err error
	if h.Extensions, err = parseExtensions(&s, "ServerHello"); err != nil {
		return h, err
	}
	if value, ok := h.Extensions[extSupportedVersions]; ok {
		v := cryptobyte.String(value)
		if !v.ReadUint16(&version) || !v.Empty() {
			return h, &BadMessageError{"the version in the ServerHello is malformed"}
		}
		h.Version = Version(version)
	}
	if value, ok := h.Extensions[extKeyShare]; ok {
		if err := h.keyShare(value); err != nil {
			return h, err
		}
	}
	if value, ok := h.Extensions[extCookie]; ok {
		v := cryptobyte.String(value)
		var cookie cryptobyte.String
		if !v.ReadUint16LengthPrefixed(&cookie) || !v.Empty() {
			return h, &BadMessageError{"the cookie in the HelloRetryRequest is malformed"}
		}
		h.Cookie = bytes.Clone(cookie)
	}
	if h.Version < SSL30 || h.Version > TLS13 {
		return h, &NotOfferedError{h.Version.String()}
	}
	return h, nil
}

func (h *ServerHello) keyShare(value []byte) error {
	v := cryptobyte.String(value)
	var group uint16
	var data cryptobyte.String
	ok := v.ReadUint16(&group)
	if !h.Retry {
		ok = ok && v.ReadUint16LengthPrefixed(&data)
	}
	if !ok || !v.Empty() {
		return &BadMessageError{"the key share in the ServerHello is malformed"}
	}
	h.Share = KeyShare{Group(group), bytes.Clone(data)}
	return nil
}

// parseExtensions reads a list of extensions; where nothing is left there is none.
func parseExtensions(s *cryptobyte.String, where string) (map[Extension][]byte, error) {
	out := map[Extension][]byte{}
	if s.Empty() {
		return out, nil
	}
	var list cryptobyte.String
	if !s.ReadUint16LengthPrefixed(&list) || !s.Empty() {
		return out, &BadMessageError{"the extensions of the " + where + " have a wrong length"}
	}
	return out, eachExtension(list, where, func(e Extension, value []byte) { out[e] = value })
}

func eachExtension(list cryptobyte.String, where string, each func(Extension, []byte)) error {
	for !list.Empty() {
		var id uint16
		var value cryptobyte.String
		if !list.ReadUint16(&id) || !list.ReadUint16LengthPrefixed(&value) {
			return &BadMessageError{"an extension of the " + where + " is cut off"}
		}
		each(Extension(id), bytes.Clone(value))
	}
	return nil
}
