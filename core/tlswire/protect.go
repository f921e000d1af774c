package tlswire

import (
	"crypto"
	"crypto/aes"
	"crypto/cipher"
	"crypto/des" // old suites are read, never chosen
	"crypto/hmac"
	"crypto/rc4" // likewise
	"crypto/subtle"
	"encoding/binary"
	"errors"
	"fmt"

	"golang.org/x/crypto/chacha20poly1305"
)

// ErrSuite says that records of the suite cannot be read here.
var ErrSuite = errors.New("records of this cipher suite cannot be read here")

// suiteKeys is how long the keys of a suite are, in bytes, and how its records are protected.
type suiteKeys struct {
	key, iv, mac int
	hash         crypto.Hash // of the MAC
	macLast      bool        // encrypt-then-MAC was agreed
	aead         func(key []byte) (cipher.AEAD, error)
	block        func(key []byte) (cipher.Block, error)
	stream       func(key []byte) (cipher.Stream, error)
}

func gcm(key []byte) (cipher.AEAD, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	return cipher.NewGCM(block)
}

// keysOf finds how the suite protects records. The error is ErrSuite.
func keysOf(s Suite) (suiteKeys, error) {
	p := s.Properties()
	var k suiteKeys
	switch p.Cipher {
	case "AES-128-GCM":
		return suiteKeys{key: 16, iv: 4, aead: gcm}, nil
	case "AES-256-GCM":
		return suiteKeys{key: 32, iv: 4, aead: gcm}, nil
	case "AES-128-CCM":
		return suiteKeys{key: 16, iv: 4, aead: newCCM(16)}, nil
	case "AES-256-CCM":
		return suiteKeys{key: 32, iv: 4, aead: newCCM(16)}, nil
	case "AES-128-CCM-8":
		return suiteKeys{key: 16, iv: 4, aead: newCCM(8)}, nil
	case "AES-256-CCM-8":
		return suiteKeys{key: 32, iv: 4, aead: newCCM(8)}, nil
	case "ChaCha20-Poly1305":
		return suiteKeys{key: 32, iv: 12, aead: chacha20poly1305.New}, nil
	case "AES-128-CBC":
		k = suiteKeys{key: 16, iv: 16, block: aes.NewCipher}
	case "AES-256-CBC":
		k = suiteKeys{key: 32, iv: 16, block: aes.NewCipher}
	case "3DES-CBC":
		k = suiteKeys{key: 24, iv: 8, block: des.NewTripleDESCipher}
	case "RC4-128":
		k = suiteKeys{key: 16, stream: func(key []byte) (cipher.Stream, error) { return rc4.NewCipher(key) }}
	default:
		return k, fmt.Errorf("%w: %s", ErrSuite, s)
	}
	macs := map[string]crypto.Hash{"MD5": crypto.MD5, "SHA": crypto.SHA1, "SHA256": crypto.SHA256,
		"SHA384": crypto.SHA384}
	k.hash = macs[p.Hash]
	if k.hash == 0 {
		return k, fmt.Errorf("%w: %s", ErrSuite, s)
	}
	k.mac = k.hash.Size()
	return k, nil
}

// Readable reports whether records of the suite can be read here.
func Readable(s Suite) bool {
	_, err := keysOf(s)
	return err == nil
}

// aeadRecords protects records by authenticated encryption, as TLS 1.2 (RFC
// 5288, RFC 7905) or TLS 1.3 (RFC 8446, 5.2) does.
type aeadRecords struct {
	aead     cipher.AEAD
	iv       []byte // 12 bytes, or the 4 that are not sent
	sequence uint64
	modern   bool // TLS 1.3
}

// nonce makes the record's nonce: with a whole iv the sequence number is mixed in.
func (a *aeadRecords) nonce(explicit []byte) []byte {
	if len(a.iv) < 12 {
		return append(append([]byte(nil), a.iv...), explicit...)
	}
	nonce := append([]byte(nil), a.iv...)
	for i, b := range binary.BigEndian.AppendUint64(nil, a.sequence) {
		nonce[4+i] ^= b
	}
	return nonce
}

func (a *aeadRecords) additional(kind byte, version Version, length int) []byte {
	if a.modern {
		return []byte{contentApplication, 3, 3, byte(length >> 8), byte(length)}
	}
	out := binary.BigEndian.AppendUint64(nil, a.sequence)
	return append(out, kind, byte(version>>8), byte(version), byte(length>>8), byte(length))
}

func (a *aeadRecords) open(kind byte, version Version, body []byte) (byte, []byte, error) {
	var explicit []byte
	if len(a.iv) < 12 {
		if len(body) < 8 {
			return 0, nil, &BadMessageError{"an encrypted record is too short"}
		}
		explicit, body = body[:8], body[8:]
	}
	length := len(body)
	if !a.modern {
		length -= a.aead.Overhead()
	}
	if len(body) < a.aead.Overhead() || a.modern && kind != contentApplication {
		return 0, nil, &BadMessageError{"an encrypted record is malformed"}
	}
	plain, err := a.aead.Open(nil, a.nonce(explicit), body, a.additional(kind, version, length))
	if err != nil {
		return 0, nil, &BadMessageError{"an encrypted record does not decrypt"}
	}
	a.sequence++
	if !a.modern {
		return kind, plain, nil
	}
	for len(plain) > 0 && plain[len(plain)-1] == 0 { // padding
		plain = plain[:len(plain)-1]
	}
	if len(plain) == 0 {
		return 0, nil, &BadMessageError{"an encrypted record holds nothing"}
	}
	return plain[len(plain)-1], plain[:len(plain)-1], nil
}

func (a *aeadRecords) seal(kind byte, version Version, plain []byte) (byte, []byte) {
	defer func() { a.sequence++ }()
	if a.modern {
		inner := append(append([]byte(nil), plain...), kind)
		return contentApplication, a.aead.Seal(nil, a.nonce(nil), inner,
			a.additional(kind, version, len(inner)+a.aead.Overhead()))
	}
	var explicit []byte
	if len(a.iv) < 12 {
		explicit = binary.BigEndian.AppendUint64(nil, a.sequence)
	}
	return kind, a.aead.Seal(explicit, a.nonce(explicit), plain, a.additional(kind, version, len(plain)))
}

// macRecords protects records by a MAC and then a cipher (RFC 5246, 6.2.3), or
// by a cipher and then a MAC (RFC 7366).
type macRecords struct {
	version  Version
	mac      func() crypto.Hash
	key      []byte // of the MAC
	macLast  bool   // the MAC is over what was encrypted, and is not encrypted itself
	block    cipher.Block
	chain    []byte // last block of the record before, which SSL 3.0 and TLS 1.0 go on from
	stream   cipher.Stream
	random   func([]byte)
	sequence uint64
}

func (m *macRecords) tag(kind byte, version Version, data []byte) []byte {
	h := hmac.New(m.mac().New, m.key)
	h.Write(binary.BigEndian.AppendUint64(nil, m.sequence))
	h.Write([]byte{kind, byte(version >> 8), byte(version), byte(len(data) >> 8), byte(len(data))})
	h.Write(data)
	return h.Sum(nil)
}

func (m *macRecords) open(kind byte, version Version, body []byte) (byte, []byte, error) {
	bad := &BadMessageError{"an encrypted record does not decrypt"}
	size := m.mac().Size()
	if m.macLast {
		if len(body) < size || subtle.ConstantTimeCompare(body[len(body)-size:],
			m.tag(kind, version, body[:len(body)-size])) != 1 {
			return 0, nil, bad
		}
		body = body[:len(body)-size]
	}
	if m.block != nil {
		length := m.block.BlockSize()
		iv := m.chain
		if m.version >= TLS11 {
			if len(body) < length {
				return 0, nil, bad
			}
			iv, body = body[:length], body[length:]
		}
		if len(body) == 0 || len(body)%length != 0 {
			return 0, nil, bad
		}
		m.chain = append([]byte(nil), body[len(body)-length:]...)
		plain := make([]byte, len(body))
		cipher.NewCBCDecrypter(m.block, iv).CryptBlocks(plain, body)
		padding := int(plain[len(plain)-1]) + 1 // nobody watches our timing: these are public facts
		if padding > len(plain) {
			return 0, nil, bad
		}
		body = plain[:len(plain)-padding]
	} else {
		plain := make([]byte, len(body))
		m.stream.XORKeyStream(plain, body)
		body = plain
	}
	if m.macLast {
		m.sequence++
		return kind, body, nil
	}
	if len(body) < size {
		return 0, nil, bad
	}
	content, tag := body[:len(body)-size], body[len(body)-size:]
	if subtle.ConstantTimeCompare(tag, m.tag(kind, version, content)) != 1 {
		return 0, nil, bad
	}
	m.sequence++
	return kind, content, nil
}

func (m *macRecords) seal(kind byte, version Version, plain []byte) (byte, []byte) {
	defer func() { m.sequence++ }()
	body := append([]byte(nil), plain...)
	if !m.macLast {
		body = append(body, m.tag(kind, version, plain)...)
	}
	if m.block == nil {
		m.stream.XORKeyStream(body, body)
		return kind, body
	}
	length := m.block.BlockSize()
	padding := length - len(body)%length
	for range padding {
		body = append(body, byte(padding-1))
	}
	iv := m.chain
	var out []byte
	if m.version >= TLS11 {
		iv = make([]byte, length)
		m.random(iv)
		out = append(out, iv...)
	}
	cipher.NewCBCEncrypter(m.block, iv).CryptBlocks(body, body)
	m.chain = append([]byte(nil), body[len(body)-length:]...)
	if out = append(out, body...); m.macLast {
		out = append(out, m.tag(kind, version, out)...)
	}
	return kind, out
}
