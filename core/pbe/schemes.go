package pbe

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/des"
	"crypto/hmac"
	"crypto/md5"
	"crypto/pbkdf2"
	"crypto/rc4"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/asn1"
	"hash"

	"golang.org/x/crypto/scrypt"
)

const oidPBES2 = "1.2.840.113549.1.5.13"

// schemes by identifier: RFC 8018, appendix A, and RFC 7292, appendix C.
var schemes map[string]scheme

func init() { // PBES2 refers to tables that refer back
	schemes = map[string]scheme{
		"1.2.840.113549.1.5.3":  {"PBES1, MD5 and DES", pbes1(md5.New, newDES)},
		"1.2.840.113549.1.5.6":  {"PBES1, MD5 and RC2", pbes1(md5.New, newRC2(64))},
		"1.2.840.113549.1.5.10": {"PBES1, SHA-1 and DES", pbes1(sha1.New, newDES)},
		"1.2.840.113549.1.5.11": {"PBES1, SHA-1 and RC2", pbes1(sha1.New, newRC2(64))},
		oidPBES2:                {"PBES2", pbes2},

		"1.2.840.113549.1.12.1.1": {"PKCS#12, SHA-1 and RC4 with 128 bits", pkcs12Stream(16)},
		"1.2.840.113549.1.12.1.2": {"PKCS#12, SHA-1 and RC4 with 40 bits", pkcs12Stream(5)},
		"1.2.840.113549.1.12.1.3": {"PKCS#12, SHA-1 and 3DES", pkcs12Block(24, des.NewTripleDESCipher)},
		"1.2.840.113549.1.12.1.4": {"PKCS#12, SHA-1 and 3DES with two keys", pkcs12Block(16, newTwoKeyDES)},
		"1.2.840.113549.1.12.1.5": {"PKCS#12, SHA-1 and RC2 with 128 bits", pkcs12Block(16, newRC2(128))},
		"1.2.840.113549.1.12.1.6": {"PKCS#12, SHA-1 and RC2 with 40 bits", pkcs12Block(5, newRC2(40))},
	}
}

type newBlock func(key []byte) (cipher.Block, error)

var newDES newBlock = des.NewCipher

func newRC2(bits int) newBlock {
	return func(key []byte) (cipher.Block, error) { return newRC2Cipher(key, bits), nil }
}

func newTwoKeyDES(key []byte) (cipher.Block, error) {
	return des.NewTripleDESCipher(append(append([]byte{}, key...), key[:8]...))
}

// saltAndRounds are the parameters of the older schemes (RFC 8018, A.3; RFC 7292, C).
type saltAndRounds struct {
	Salt   []byte
	Rounds int
}

func readSalt(parameters []byte, budget *Budget) (saltAndRounds, error) {
	var p saltAndRounds
	if _, err := asn1.Unmarshal(parameters, &p); err != nil || p.Rounds < 1 {
		return p, damaged("salt and rounds are malformed")
	}
	return p, budget.spend(p.Rounds)
}

// pbes1 is RFC 8018, sections 5.1 and 6.1.
func pbes1(newHash func() hash.Hash, block newBlock) func([]byte, string, *Budget) (opened, error) {
	return func(parameters []byte, password string, budget *Budget) (opened, error) {
		p, err := readSalt(parameters, budget)
		if err != nil {
			return opened{}, err
		}
		h := newHash()
		h.Write([]byte(password))
		h.Write(p.Salt)
		derived := h.Sum(nil)
		for range p.Rounds - 1 {
			h.Reset()
			h.Write(derived)
			derived = h.Sum(derived[:0])
		}
		b, err := block(derived[:8])
		return opened{block: b, iv: derived[8:16]}, err
	}
}

func pkcs12Block(size int, block newBlock) func([]byte, string, *Budget) (opened, error) {
	return func(parameters []byte, password string, budget *Budget) (opened, error) {
		p, err := readSalt(parameters, budget)
		if err != nil {
			return opened{}, err
		}
		text := bmp(password)
		b, err := block(derive12(sha1.New, 64, text, p.Salt, p.Rounds, purposeKey, size))
		return opened{block: b, iv: derive12(sha1.New, 64, text, p.Salt, p.Rounds, purposeIV, 8)}, err
	}
}

func pkcs12Stream(size int) func([]byte, string, *Budget) (opened, error) {
	return func(parameters []byte, password string, budget *Budget) (opened, error) {
		p, err := readSalt(parameters, budget)
		if err != nil {
			return opened{}, err
		}
		c, err := rc4.NewCipher(derive12(sha1.New, 64, bmp(password), p.Salt, p.Rounds, purposeKey, size))
		return opened{stream: c}, err
	}
}

type pbes2Parameters struct {
	Derivation, Encryption algorithmIdentifier
}

type pbkdf2Parameters struct {
	Salt   asn1.RawValue
	Rounds int
	Length int                 `asn1:"optional"`
	Random algorithmIdentifier `asn1:"optional"`
}

type scryptParameters struct {
	Salt      []byte
	N, R, P   int
	KeyLength int `asn1:"optional"`
}

// randoms are the pseudorandom functions of RFC 8018, B.1.2; SHA-1 is the default.
var randoms = map[string]func() hash.Hash{
	"": sha1.New, "1.2.840.113549.2.7": sha1.New, "1.2.840.113549.2.8": sha256.New224, "1.2.840.113549.2.9": sha256.New,
	"1.2.840.113549.2.10": sha512.New384, "1.2.840.113549.2.11": sha512.New, "1.2.840.113549.2.12": sha512.New512_224,
	"1.2.840.113549.2.13": sha512.New512_256,
}

// ciphers of RFC 8018, B.2, with the size of the key in bytes.
var ciphers = map[string]struct {
	name  string
	size  int
	block newBlock
}{
	"1.3.14.3.2.7":            {"DES", 8, newDES},
	"1.2.840.113549.3.7":      {"3DES", 24, des.NewTripleDESCipher},
	"2.16.840.1.101.3.4.1.2":  {"AES-128", 16, aes.NewCipher},
	"2.16.840.1.101.3.4.1.22": {"AES-192", 24, aes.NewCipher},
	"2.16.840.1.101.3.4.1.42": {"AES-256", 32, aes.NewCipher},
	"1.2.840.113549.3.2":      {"RC2", 0, nil}, // key size and effective bits are parameters
}

const (
	oidPBKDF2 = "1.2.840.113549.1.5.12"
	oidScrypt = "1.3.6.1.4.1.11591.4.11"
)

func pbes2Name(parameters []byte) string {
	var p pbes2Parameters
	if _, err := asn1.Unmarshal(parameters, &p); err != nil {
		return "PBES2, damaged"
	}
	derivation := map[string]string{oidPBKDF2: "PBKDF2", oidScrypt: "scrypt"}[p.Derivation.Algorithm.String()]
	cipher := ciphers[p.Encryption.Algorithm.String()].name
	if derivation == "" || cipher == "" {
		return "PBES2 of an unknown kind"
	}
	return "PBES2, " + derivation + " and " + cipher
}

// pbes2 is RFC 8018, section 6.2, with PBKDF2 or scrypt (RFC 7914, 7).
func pbes2(parameters []byte, password string, budget *Budget) (opened, error) {
	var p pbes2Parameters
	if _, err := asn1.Unmarshal(parameters, &p); err != nil {
		return opened{}, damaged("the parameters of PBES2 are malformed")
	}
	c, ok := ciphers[p.Encryption.Algorithm.String()]
	if !ok {
		return opened{}, unsupported("PBES2 with the cipher %s", p.Encryption.Algorithm)
	}
	iv, effective := p.Encryption.Parameters.Bytes, 0
	if c.block == nil {
		var err error
		if iv, effective, err = rc2Parameters(p.Encryption.Parameters.FullBytes); err != nil {
			return opened{}, err
		}
		c.block, c.size = newRC2(effective), max(effective/8, 1)
	}
	key, err := deriveKey(p.Derivation, password, c.size, budget)
	if err != nil {
		return opened{}, err
	}
	b, err := c.block(key)
	return opened{block: b, iv: iv}, err
}

// rc2Parameters reads RFC 8018, B.2.3: the version number encodes the effective key bits.
func rc2Parameters(der []byte) (iv []byte, bits int, err error) {
	var p struct {
		Version int
		IV      []byte
	}
	if _, err := asn1.Unmarshal(der, &p); err != nil {
		return nil, 0, damaged("the parameters of RC2 are malformed")
	}
	bits, ok := map[int]int{160: 40, 120: 64, 58: 128}[p.Version]
	if !ok && p.Version >= 256 && p.Version <= 1024 {
		bits, ok = p.Version, true
	}
	if !ok {
		return nil, 0, unsupported("RC2 version %d", p.Version)
	}
	return p.IV, bits, nil
}

func deriveKey(a algorithmIdentifier, password string, size int, budget *Budget) ([]byte, error) {
	switch a.Algorithm.String() {
	case oidPBKDF2:
		var p pbkdf2Parameters
		if _, err := asn1.Unmarshal(a.Parameters.FullBytes, &p); err != nil || p.Rounds < 1 {
			return nil, damaged("the parameters of PBKDF2 are malformed")
		}
		random, ok := randoms[p.Random.Algorithm.String()]
		if !ok || p.Salt.Tag != asn1.TagOctetString {
			return nil, unsupported("PBKDF2 with the function %s", p.Random.Algorithm)
		}
		if err := budget.spend(p.Rounds); err != nil {
			return nil, err
		}
		return pbkdf2.Key(random, password, p.Salt.Bytes, p.Rounds, size)
	case oidScrypt:
		var p scryptParameters
		if _, err := asn1.Unmarshal(a.Parameters.FullBytes, &p); err != nil || p.N < 2 || p.R < 1 || p.P < 1 {
			return nil, damaged("the parameters of scrypt are malformed")
		}
		if p.N > maxScrypt || p.R > 1024 || p.P > 1024 || 128*p.N*p.R > maxScrypt {
			return nil, damagedCost(p)
		}
		if err := budget.spend(2 * p.N * p.R * p.P / 8); err != nil {
			return nil, err
		}
		key, err := scrypt.Key([]byte(password), p.Salt, p.N, p.R, p.P, size)
		if err != nil {
			return nil, damaged("the parameters of scrypt are impossible")
		}
		return key, nil
	}
	return nil, unsupported("key derivation %s", a.Algorithm)
}

func damagedCost(p scryptParameters) error {
	return errorf(ErrTooCostly, "scrypt with N=%d, r=%d, p=%d", p.N, p.R, p.P)
}

// CheckMAC verifies the integrity value of PKCS#12 (RFC 7292, 4): the digest's
// identifier, or PBMAC1 (RFC 9579) with its parameters.
func CheckMAC(algorithm, want, salt []byte, rounds int, content []byte, password string, budget *Budget) error {
	var id algorithmIdentifier
	if _, err := asn1.Unmarshal(algorithm, &id); err != nil {
		return damaged("the algorithm of the integrity value is malformed")
	}
	if id.Algorithm.String() == "1.2.840.113549.1.5.14" {
		return checkPBMAC1(id.Parameters.FullBytes, want, content, password, budget)
	}
	digest, ok := digests[id.Algorithm.String()]
	if !ok {
		return unsupported("integrity by %s", id.Algorithm)
	}
	if err := budget.spend(rounds); err != nil {
		return err
	}
	texts := [][]byte{bmp(password)}
	if password == "" {
		texts = append(texts, nil) // some writers take no password for no bytes at all
	}
	for _, text := range texts {
		if hmac.Equal(digest.mac(text, salt, rounds, content), want) {
			return nil
		}
	}
	return ErrPassword
}

// mac is the integrity value of PKCS#12.
func (d digest) mac(password, salt []byte, rounds int, content []byte) []byte {
	mac := hmac.New(d.new, derive12(d.new, d.block, password, salt, rounds, purposeMAC, d.new().Size()))
	mac.Write(content)
	return mac.Sum(nil)
}

// MAC computes the integrity value of PKCS#12 by a digest's identifier (RFC 7292, 4).
func MAC(digest string, salt []byte, rounds int, content []byte, password string) ([]byte, error) {
	d, ok := digests[digest]
	if !ok {
		return nil, unsupported("integrity by %s", digest)
	}
	return d.mac(bmp(password), salt, rounds, content), nil
}

func checkPBMAC1(parameters, want, content []byte, password string, budget *Budget) error {
	var p pbes2Parameters // the same shape: derivation and what uses the key
	if _, err := asn1.Unmarshal(parameters, &p); err != nil {
		return damaged("the parameters of PBMAC1 are malformed")
	}
	var length pbkdf2Parameters
	_, _ = asn1.Unmarshal(p.Derivation.Parameters.FullBytes, &length)
	h, ok := randoms[p.Encryption.Algorithm.String()]
	if !ok || length.Length < 1 || length.Length > 1024 {
		return unsupported("PBMAC1 with %s", p.Encryption.Algorithm)
	}
	key, err := deriveKey(p.Derivation, password, length.Length, budget)
	if err != nil {
		return err
	}
	mac := hmac.New(h, key)
	mac.Write(content)
	if !hmac.Equal(mac.Sum(nil), want) {
		return ErrPassword
	}
	return nil
}
