package draft

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/youmark/pkcs8"

	"nurvik/core/pki"
)

// KeyKind is a kind of key: ec-p256, ec-p384, ed25519, or rsa- and the bits.
type KeyKind string

// The kinds of key; of RSA any size from 2048 to 4096 bits will do.
const (
	P256    KeyKind = "ec-p256"
	P384    KeyKind = "ec-p384"
	Ed25519 KeyKind = "ed25519"
	RSA2048 KeyKind = "rsa-2048"
	RSA3072 KeyKind = "rsa-3072"
	RSA4096 KeyKind = "rsa-4096"
)

// DefaultKey is made where nobody asks for another.
const DefaultKey = P256

// KeyKinds are the kinds to choose from.
func KeyKinds() []KeyKind { return []KeyKind{P256, P384, Ed25519, RSA2048, RSA3072, RSA4096} }

// ParseKeyKind reads the name of a kind; "" is the default.
func ParseKeyKind(text string) (KeyKind, error) {
	k := KeyKind(strings.ToLower(text))
	switch {
	case text == "":
		return DefaultKey, nil
	case k == P256, k == P384, k == Ed25519, k.bits() > 0:
		return k, nil
	}
	return "", fmt.Errorf("a key is ec-p256, ec-p384, ed25519, or rsa-2048 to rsa-4096, not %q", text)
}

// bits of an RSA key; 0 for another kind, and for a size that is not made.
func (k KeyKind) bits() int {
	size, isRSA := strings.CutPrefix(string(k), "rsa-")
	if n, err := strconv.Atoi(size); isRSA && err == nil && n >= 2048 && n <= 4096 && n%8 == 0 {
		return n
	}
	return 0
}

// KindOf is the kind of a key that is there; false where such keys are not made.
func KindOf(k pki.PublicKey) (KeyKind, bool) {
	kind := KeyKind("")
	switch k.Algorithm {
	case pki.KeyRSA, pki.KeyRSAPSS:
		kind = KeyKind("rsa-" + strconv.Itoa(k.Bits))
	case pki.KeyEC:
		kind = KeyKind("ec-" + strings.ToLower(strings.ReplaceAll(k.Curve, "-", "")))
	case pki.KeyEd25519:
		kind = Ed25519
	}
	parsed, err := ParseKeyKind(string(kind))
	return parsed, kind != "" && err == nil
}

// NewKey makes a key of the kind.
func NewKey(kind KeyKind, random io.Reader) (crypto.Signer, error) {
	switch kind {
	case P256:
		return ecdsa.GenerateKey(elliptic.P256(), random)
	case P384:
		return ecdsa.GenerateKey(elliptic.P384(), random)
	case Ed25519:
		_, key, err := ed25519.GenerateKey(random)
		return key, err
	}
	if bits := kind.bits(); bits > 0 {
		return rsa.GenerateKey(random, bits)
	}
	return nil, fmt.Errorf("keys of the kind %q are not made", kind)
}

// rounds of PBKDF2 with HMAC-SHA-256 for keys that are written encrypted.
const rounds = 600_000

// EncodeKey writes the key as PKCS#8 in PEM (RFC 5958, RFC 7468); with a password
// encrypted by PBES2 with PBKDF2 and AES-256 (RFC 8018).
func EncodeKey(key crypto.Signer, password []byte) ([]byte, error) {
	label, der, err := "PRIVATE KEY", []byte(nil), error(nil)
	if len(password) == 0 {
		der, err = x509.MarshalPKCS8PrivateKey(key)
	} else {
		label = "ENCRYPTED PRIVATE KEY"
		der, err = pkcs8.MarshalPrivateKey(key, password, &pkcs8.Opts{Cipher: pkcs8.AES256CBC,
			KDFOpts: pkcs8.PBKDF2Opts{SaltSize: 16, IterationCount: rounds, HMACHash: crypto.SHA256}})
	}
	if err != nil {
		return nil, fmt.Errorf("encode the private key: %w", err)
	}
	var out bytes.Buffer
	err = pem.Encode(&out, &pem.Block{Type: label, Bytes: der})
	return out.Bytes(), err
}
