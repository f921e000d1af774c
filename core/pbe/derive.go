package pbe

import (
	"crypto/aes"
	"crypto/des"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/subtle"
	"encoding/hex"
	"fmt"
	"hash"
	"math/big"
	"strings"
	"unicode/utf16"
)

func errorf(kind error, format string, args ...any) error {
	return fmt.Errorf("%w: %s", kind, fmt.Sprintf(format, args...))
}

// digest is a hash with the size of its block in bytes.
type digest struct {
	new   func() hash.Hash
	block int
}

// digests of the integrity value.
var digests = map[string]digest{
	"1.2.840.113549.2.5": {md5.New, 64}, "1.3.14.3.2.26": {sha1.New, 64},
	"2.16.840.1.101.3.4.2.4": {sha256.New224, 64}, "2.16.840.1.101.3.4.2.1": {sha256.New, 64},
	"2.16.840.1.101.3.4.2.2": {sha512.New384, 128}, "2.16.840.1.101.3.4.2.3": {sha512.New, 128},
	"2.16.840.1.101.3.4.2.5": {sha512.New512_224, 128}, "2.16.840.1.101.3.4.2.6": {sha512.New512_256, 128},
}

// Purposes of a derivation (RFC 7292, B.3).
const (
	purposeKey = 1
	purposeIV  = 2
	purposeMAC = 3
)

// bmp writes the password as UTF-16 with two zero bytes behind it (RFC 7292, B.1).
func bmp(password string) []byte {
	out := make([]byte, 0, 2*len(password)+2)
	for _, unit := range utf16.Encode([]rune(password)) {
		out = append(out, byte(unit>>8), byte(unit))
	}
	return append(out, 0, 0)
}

// derive12 is RFC 7292, appendix B.2; block is the hash's block size in bytes.
func derive12(newHash func() hash.Hash, block int, password, salt []byte, rounds int, purpose byte, size int) []byte {
	fill := func(pattern []byte) []byte {
		if len(pattern) == 0 {
			return nil
		}
		out := make([]byte, block*((len(pattern)+block-1)/block))
		for i := range out {
			out[i] = pattern[i%len(pattern)]
		}
		return out
	}
	diversifier := make([]byte, block)
	for i := range diversifier {
		diversifier[i] = purpose
	}
	input := append(fill(salt), fill(password)...)
	h := newHash()
	var out []byte
	one := big.NewInt(1)
	modulus := new(big.Int).Lsh(one, uint(8*block))
	for len(out) < size {
		h.Reset()
		h.Write(diversifier)
		h.Write(input)
		a := h.Sum(nil)
		for range rounds - 1 {
			h.Reset()
			h.Write(a)
			a = h.Sum(a[:0])
		}
		out = append(out, a...)
		b := new(big.Int).SetBytes(fill(a)[:block])
		b.Add(b, one)
		for i := 0; i < len(input); i += block {
			part := new(big.Int).SetBytes(input[i : i+block])
			part.Add(part, b)
			part.Mod(part, modulus).FillBytes(input[i : i+block])
		}
	}
	return out[:size]
}

// pemCiphers are the names of DEK-Info that are met (RFC 1421, 4.6.1.3, as widened by use).
var pemCiphers = map[string]struct {
	size  int
	block newBlock
}{
	"DES-CBC": {8, newDES}, "DES-EDE3-CBC": {24, des.NewTripleDESCipher},
	"AES-128-CBC": {16, aes.NewCipher}, "AES-192-CBC": {24, aes.NewCipher}, "AES-256-CBC": {32, aes.NewCipher},
}

// DecryptPEM undoes the encryption of a PEM block with a DEK-Info header,
// whose value is given.
func DecryptPEM(info string, ciphertext []byte, password string) ([]byte, error) {
	name, text, _ := strings.Cut(info, ",")
	c, ok := pemCiphers[strings.ToUpper(strings.TrimSpace(name))]
	if !ok {
		return nil, unsupported("the cipher %q of DEK-Info", name)
	}
	iv, err := hex.DecodeString(strings.TrimSpace(text))
	if err != nil || len(iv) < 8 {
		return nil, damaged("the initial vector of DEK-Info is malformed")
	}
	var key, last []byte
	for len(key) < c.size {
		sum := md5.Sum(append(append(append([]byte{}, last...), password...), iv[:8]...))
		last = sum[:]
		key = append(key, last...)
	}
	b, err := c.block(key[:c.size])
	if err != nil {
		return nil, err
	}
	return opened{block: b, iv: iv}.decrypt(ciphertext)
}

// DecryptJKS undoes the protection of a private key in a JKS keystore: a
// stream of SHA-1 digests, and a digest over password and key behind it.
func DecryptJKS(protected []byte, password string) ([]byte, error) {
	const size = sha1.Size
	if len(protected) < 2*size {
		return nil, damaged("the protected key is cut off")
	}
	text := bmp(password)
	text = text[:len(text)-2]
	stream, body, check := protected[:size], protected[size:len(protected)-size], protected[len(protected)-size:]
	out := make([]byte, len(body))
	for i := 0; i < len(body); i += size {
		sum := sha1.Sum(append(append([]byte{}, text...), stream...))
		stream = sum[:]
		subtle.XORBytes(out[i:], body[i:], stream)
	}
	if sum := sha1.Sum(append(append([]byte{}, text...), out...)); string(sum[:]) != string(check) {
		return nil, ErrPassword
	}
	return out, nil
}

// DecryptJCEKS undoes the protection of a key in a JCEKS keystore: MD5 and
// 3DES, the salt halved. parameters are the DER of salt and rounds.
func DecryptJCEKS(parameters, ciphertext []byte, password string, budget *Budget) ([]byte, error) {
	p, err := readSalt(parameters, budget)
	if err != nil {
		return nil, err
	}
	if len(p.Salt) != 8 {
		return nil, damaged("the salt has %d bytes instead of 8", len(p.Salt))
	}
	derived := JCEKSKey(p.Salt, p.Rounds, password)
	b, err := des.NewTripleDESCipher(derived[:24])
	if err != nil {
		return nil, err
	}
	return opened{block: b, iv: derived[24:]}.decrypt(ciphertext)
}

// JCEKSKey derives 24 bytes of key and 8 of initial vector from a salt of 8 bytes.
func JCEKSKey(salt []byte, rounds int, password string) []byte {
	halves := append([]byte{}, salt...)
	if string(halves[:4]) == string(halves[4:]) { // equal halves would give equal keys; the first is turned round
		halves[0], halves[3] = halves[3], halves[0]
	}
	var out []byte
	for i := range 2 {
		sum := append([]byte{}, halves[4*i:4*i+4]...)
		for range rounds {
			next := md5.Sum(append(append([]byte{}, sum...), password...))
			sum = next[:]
		}
		out = append(out, sum...)
	}
	return out
}

// JavaDigest is the integrity value at the end of a Java keystore: SHA-1 over
// password, a fixed phrase and the contents.
func JavaDigest(content []byte, password string) []byte {
	text := bmp(password)
	h := sha1.New()
	h.Write(text[:len(text)-2])
	h.Write([]byte("Mighty Aphrodite"))
	h.Write(content)
	return h.Sum(nil)
}
