package tlswire

import (
	"crypto"
	"crypto/ecdh"
	"crypto/hkdf"
	"crypto/hmac"
	"crypto/mlkem"
	"errors"
	"fmt"
	"hash"
	"io"
	"math/big"
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

// agreement is our half of a key agreement.
type agreement struct {
	share  KeyShare
	finish func(peer []byte) ([]byte, error)
}

var curvesOf = map[Group]func() ecdh.Curve{X25519: ecdh.X25519, P256: ecdh.P256, P384: ecdh.P384, P521: ecdh.P521}

// agree makes our half for the group.
func agree(g Group, random io.Reader) (agreement, error) {
	if g == X25519MLKEM768 { // first the lattice, then the curve
		classic, err := agree(X25519, random)
		if err != nil {
			return agreement{}, err
		}
		key, err := mlkem.GenerateKey768()
		if err != nil {
			return agreement{}, err
		}
		return agreement{KeyShare{g, append(key.EncapsulationKey().Bytes(), classic.share.Data...)},
			func(peer []byte) ([]byte, error) {
				if len(peer) != mlkem.CiphertextSize768+32 {
					return nil, &BadMessageError{"the hybrid key share has a wrong length"}
				}
				lattice, err := key.Decapsulate(peer[:mlkem.CiphertextSize768])
				if err != nil {
					return nil, &BadMessageError{"the hybrid key share is malformed"}
				}
				curve, err := classic.finish(peer[mlkem.CiphertextSize768:])
				return append(lattice, curve...), err
			}}, nil
	}
	curve, ok := curvesOf[g]
	if !ok {
		return agreement{}, fmt.Errorf("%w: no key can be agreed in %s", ErrSuite, g)
	}
	key, err := curve().GenerateKey(random)
	if err != nil {
		return agreement{}, err
	}
	return agreement{KeyShare{g, key.PublicKey().Bytes()}, func(peer []byte) ([]byte, error) {
		public, err := curve().NewPublicKey(peer)
		if err != nil {
			return nil, &BadMessageError{"the key share is no point of " + g.String()}
		}
		secret, err := key.ECDH(public)
		if err != nil {
			return nil, &BadMessageError{"the key share is a point of low order"}
		}
		return secret, nil
	}}, nil
}

// maxPrime bounds the work that a peer's group can cause.
const maxPrime = 8192

// agreeFinite answers a server's Diffie-Hellman value (RFC 5246, 8.1.2).
func agreeFinite(k KeyExchange, random io.Reader) (public, secret []byte, err error) {
	p, g, y := new(big.Int).SetBytes(k.Prime), new(big.Int).SetBytes(k.Generator), new(big.Int).SetBytes(k.Public)
	if p.BitLen() > maxPrime || p.BitLen() < 16 || p.Bit(0) == 0 || y.Sign() <= 0 || y.Cmp(p) >= 0 {
		return nil, nil, fmt.Errorf("%w: a group of %d bits", ErrSuite, p.BitLen())
	}
	raw := make([]byte, 32)
	if _, err := io.ReadFull(random, raw); err != nil {
		return nil, nil, err
	}
	x := new(big.Int).SetBytes(raw)
	return new(big.Int).Exp(g, x, p).Bytes(), new(big.Int).Exp(y, x, p).Bytes(), nil
}
