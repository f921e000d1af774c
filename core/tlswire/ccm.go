package tlswire

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/subtle"
	"encoding/binary"
	"errors"
)

// ccm is the mode of RFC 3610 over AES, which the standard library does not
// have: a CBC-MAC over nonce, additional data and text, and counters.
type ccm struct {
	block cipher.Block
	tag   int // bytes of the tag
	nonce int // bytes of the nonce; the others of a block count
}

// newCCM makes the mode as TLS uses it, with nonces of 12 bytes (RFC 6655, 3, and RFC 8446, 5.3).
func newCCM(tag int) func(key []byte) (cipher.AEAD, error) {
	return func(key []byte) (cipher.AEAD, error) {
		block, err := aes.NewCipher(key)
		return &ccm{block, tag, 12}, err
	}
}

// NonceSize is the length of a nonce in bytes.
func (c *ccm) NonceSize() int { return c.nonce }

// Overhead is the length of the tag in bytes.
func (c *ccm) Overhead() int { return c.tag }

// Seal encrypts and adds the tag.
func (c *ccm) Seal(dst, nonce, plaintext, additional []byte) []byte {
	tag := c.mac(nonce, plaintext, additional)
	out := make([]byte, len(plaintext), len(plaintext)+c.tag)
	first := c.count(nonce, out, plaintext)
	subtle.XORBytes(tag, tag, first)
	return append(append(dst, out...), tag[:c.tag]...)
}

var errTag = errors.New("the tag is wrong")

// Open decrypts and checks the tag.
func (c *ccm) Open(dst, nonce, ciphertext, additional []byte) ([]byte, error) {
	if len(ciphertext) < c.tag {
		return nil, errTag
	}
	body, theirs := ciphertext[:len(ciphertext)-c.tag], ciphertext[len(ciphertext)-c.tag:]
	plain := make([]byte, len(body))
	first := c.count(nonce, plain, body)
	tag := c.mac(nonce, plain, additional)
	subtle.XORBytes(tag, tag, first)
	if subtle.ConstantTimeCompare(tag[:c.tag], theirs) != 1 {
		return nil, errTag
	}
	return append(dst, plain...), nil
}

// count encrypts or decrypts (2.3), and returns the block of the counter 0, which hides the tag.
func (c *ccm) count(nonce, dst, src []byte) (first []byte) {
	counter := make([]byte, aes.BlockSize)
	counter[0] = byte(aes.BlockSize - 1 - c.nonce - 1)
	copy(counter[1:], nonce)
	first = make([]byte, aes.BlockSize)
	stream := cipher.NewCTR(c.block, counter)
	stream.XORKeyStream(first, first)
	stream.XORKeyStream(dst, src)
	return first
}

// mac is the CBC-MAC (2.2).
func (c *ccm) mac(nonce, plaintext, additional []byte) []byte {
	begin := make([]byte, aes.BlockSize)
	begin[0] = byte((c.tag-2)/2<<3 | (aes.BlockSize - 1 - c.nonce - 1))
	copy(begin[1:], nonce)
	length := binary.BigEndian.AppendUint64(nil, uint64(len(plaintext)))
	copy(begin[1+c.nonce:], length[len(length)-(aes.BlockSize-1-c.nonce):])
	if len(additional) > 0 {
		begin[0] |= 1 << 6
	}
	state := make([]byte, aes.BlockSize)
	add := func(data []byte) { // padded with zeros to whole blocks
		for len(data) > 0 {
			n := min(len(data), aes.BlockSize)
			subtle.XORBytes(state[:n], state[:n], data[:n])
			c.block.Encrypt(state, state)
			data = data[n:]
		}
	}
	add(begin)
	if len(additional) > 0 { // TLS has less than 65,280 bytes
		add(append(binary.BigEndian.AppendUint16(nil, uint16(len(additional))), additional...))
	}
	add(plaintext)
	return state
}
