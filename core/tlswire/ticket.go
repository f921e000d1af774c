package tlswire

import (
	"bytes"
	"crypto/hmac"
	"errors"
	"fmt"
	"slices"

	"golang.org/x/crypto/cryptobyte"
)

// SessionTicket lets a client go on with a session of TLS 1.3 (RFC 8446, 4.6.1).
type SessionTicket struct {
	Identity []byte
	AgeAdd   uint32 // hides the ticket's age from onlookers
	Suite    Suite  // of the session: the one to go on with has the same hash
	Nonce    []byte
	Key      []byte // the pre-shared key; nil where the session's secrets are not known
}

// ParseSessionTicket decodes the body of a NewSessionTicket of TLS 1.3, without
// a key. The error is a *BadMessageError or a *TooMuchError.
func ParseSessionTicket(body []byte) (SessionTicket, error) {
	s := cryptobyte.String(body)
	var lifetime uint32
	var nonce, identity, extensions cryptobyte.String
	t := SessionTicket{}
	if !s.ReadUint32(&lifetime) || !s.ReadUint32(&t.AgeAdd) || !s.ReadUint8LengthPrefixed(&nonce) ||
		!s.ReadUint16LengthPrefixed(&identity) ||
		len(identity) == 0 || !s.ReadUint16LengthPrefixed(&extensions) || !s.Empty() {
		return t, &BadMessageError{"the NewSessionTicket is malformed"}
	}
	if len(identity) > maxEcho {
		return t, &TooMuchError{fmt.Sprintf("a ticket of %d bytes came", len(identity))}
	}
	t.Nonce, t.Identity = bytes.Clone(nonce), bytes.Clone(identity)
	return t, eachExtension(extensions, "NewSessionTicket", func(Extension, []byte) {})
}

// ErrNoTickets says that a session gives no tickets of TLS 1.3.
var ErrNoTickets = errors.New("the session is none of TLS 1.3, or did not come about")

// SessionTicket waits for a ticket and reads past application data meanwhile.
// The error is ErrNoTickets, as for Exchange, or what the stream returned.
func (s *Session) SessionTicket() (*SessionTicket, error) {
	if s.resumption == nil {
		return nil, ErrNoTickets
	}
	r := s.records
	for len(r.tickets) == 0 {
		kind, content, err := r.record()
		if err == nil && kind == contentHandshake {
			err = r.after(content)
		}
		if err != nil {
			return nil, err
		}
	}
	t, err := ParseSessionTicket(r.tickets[0])
	if err != nil {
		return nil, err
	}
	t.Suite = s.Hello.Suite
	h := hashOf(t.Suite)
	t.Key, err = expandLabel(h, s.resumption, "resumption", t.Nonce, h.Size())
	return &t, err
}

// preShared adds the extension that offers to go on with a session, with room
// for the binder. It is the last of all (RFC 8446, 4.2.11).
func (h ClientHello) preShared(b *cryptobyte.Builder) {
	addExtension(b, extPreSharedKey, func(e *cryptobyte.Builder) {
		e.AddUint16LengthPrefixed(func(list *cryptobyte.Builder) {
			list.AddUint16LengthPrefixed(func(id *cryptobyte.Builder) { id.AddBytes(h.Resume.Identity) })
			list.AddUint32(h.Resume.AgeAdd) // it came just now
		})
		e.AddUint16LengthPrefixed(func(list *cryptobyte.Builder) {
			list.AddUint8LengthPrefixed(func(binder *cryptobyte.Builder) {
				binder.AddBytes(make([]byte,
					hashOf(h.Resume.Suite).Size()))
			})
		})
	})
}

// bind puts the binder into a hello that ends with room for it: it proves that
// the client has the key (RFC 8446, 4.2.11.2).
func (h ClientHello) bind(transcript, message []byte) {
	s := &schedule{hash: hashOf(h.Resume.Suite)}
	s.extract(h.Resume.Key)
	size := s.hash.Size()
	key := s.derive("res binder", digest(TLS13, s.hash, nil))
	m := hmac.New(s.hash.New, s.label(key, "finished", nil, size))
	m.Write(digest(TLS13, s.hash, slices.Concat(transcript, message[:len(message)-size-3])))
	copy(message[len(message)-size:], m.Sum(nil))
}
