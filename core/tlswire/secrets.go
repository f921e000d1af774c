package tlswire

import (
	"crypto"
	"crypto/hkdf"
	"crypto/hmac"
	"errors"
	"fmt"
	"hash"
	"strings"

	_ "crypto/md5" // registered for crypto.Hash, as are the others
	_ "crypto/sha1"
	_ "crypto/sha256"
	_ "crypto/sha512"

	"golang.org/x/crypto/cryptobyte"
)

// hashOf is the hash of the suite's key schedule.
func hashOf(s Suite) crypto.Hash {
	if strings.HasSuffix(s.String(), "SHA384") {
		return crypto.SHA384
	}
	return crypto.SHA256
}

// expand is P_hash (RFC 5246, 5).
func expand(h func() hash.Hash, secret, seed []byte, length int) []byte {
	mac := func(data ...[]byte) []byte {
		m := hmac.New(h, secret)
		for _, d := range data {
			m.Write(d)
		}
		return m.Sum(nil)
	}
	var out []byte
	for a := mac(seed); len(out) < length; a = mac(a) {
		out = append(out, mac(a, seed)...)
	}
	return out[:length]
}

// prf is the pseudo-random function of the version (RFC 5246, 5; RFC 2246, 5).
func prf(version Version, h crypto.Hash, secret []byte, label string, seed []byte, length int) []byte {
	seed = append([]byte(label), seed...)
	if version >= TLS12 {
		return expand(h.New, secret, seed, length)
	}
	half := (len(secret) + 1) / 2
	out := expand(crypto.MD5.New, secret[:half], seed, length)
	for i, b := range expand(crypto.SHA1.New, secret[len(secret)-half:], seed, length) {
		out[i] ^= b
	}
	return out
}

// digest hashes a transcript as the version does.
func digest(version Version, h crypto.Hash, transcript []byte) []byte {
	one := func(h crypto.Hash) []byte {
		sum := h.New()
		sum.Write(transcript)
		return sum.Sum(nil)
	}
	if version >= TLS12 {
		return one(h)
	}
	return append(one(crypto.MD5), one(crypto.SHA1)...)
}

// expandLabel is HKDF-Expand-Label (RFC 8446, 7.1).
func expandLabel(h crypto.Hash, secret []byte, label string, context []byte, length int) ([]byte, error) {
	var b cryptobyte.Builder
	b.AddUint16(uint16(length))
	b.AddUint8LengthPrefixed(func(l *cryptobyte.Builder) { l.AddBytes([]byte("tls13 " + label)) })
	b.AddUint8LengthPrefixed(func(c *cryptobyte.Builder) { c.AddBytes(context) })
	return hkdf.Expand(h.New, secret, string(b.BytesOrPanic()), length)
}

// schedule is the key schedule of TLS 1.3 (RFC 8446, 7.1). The first error stays.
type schedule struct {
	hash   crypto.Hash
	secret []byte
	err    error
}

func (s *schedule) extract(input []byte) {
	if s.err != nil {
		return
	}
	zero := make([]byte, s.hash.Size())
	if input == nil {
		input = zero
	}
	salt := s.secret
	if salt != nil {
		salt = s.derive("derived", digest(TLS13, s.hash, nil))
	} else {
		salt = zero
	}
	if s.err == nil {
		s.secret, s.err = hkdf.Extract(s.hash.New, input, salt)
	}
}

func (s *schedule) derive(label string, transcript []byte) []byte {
	return s.label(s.secret, label, transcript, s.hash.Size())
}

func (s *schedule) label(secret []byte, label string, context []byte, length int) []byte {
	if s.err != nil {
		return nil
	}
	var out []byte
	out, s.err = expandLabel(s.hash, secret, label, context, length)
	return out
}

// finished is the value of a Finished message under a traffic secret.
func (s *schedule) finished(traffic, transcript []byte) []byte {
	m := hmac.New(s.hash.New, s.label(traffic, "finished", nil, s.hash.Size()))
	m.Write(digest(TLS13, s.hash, transcript))
	return m.Sum(nil)
}

// protect makes the protection of records under a traffic secret.
func (s *schedule) protect(suite Suite, traffic []byte) protection {
	k, err := keysOf(suite)
	if err != nil || k.aead == nil {
		s.err = errors.Join(s.err, fmt.Errorf("%w: %s", ErrSuite, suite))
		return nil
	}
	key, iv := s.label(traffic, "key", nil, k.key), s.label(traffic, "iv", nil, 12)
	if s.err != nil {
		return nil
	}
	aead, err := k.aead(key)
	s.err = err
	return &aeadRecords{aead: aead, iv: iv, modern: true}
}
