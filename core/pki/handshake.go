package pki

import (
	"bytes"
	"crypto"
	"fmt"
)

// handshakeSchemes are the signature schemes of TLS by their numbers (IANA "TLS
// SignatureScheme", RFC 8446, 4.2.3, and RFC 5246, 7.4.1.4.1).
var handshakeSchemes = map[uint16]SignatureAlgorithm{
	0x0101: {Hash: crypto.MD5, scheme: schemeRSA}, 0x0201: {Hash: crypto.SHA1, scheme: schemeRSA},
	0x0301: {Hash: crypto.SHA224, scheme: schemeRSA},
	0x0401: {Hash: crypto.SHA256, scheme: schemeRSA}, 0x0501: {Hash: crypto.SHA384, scheme: schemeRSA},
	0x0601: {Hash: crypto.SHA512, scheme: schemeRSA},
	0x0202: {Hash: crypto.SHA1, scheme: schemeDSA}, 0x0402: {Hash: crypto.SHA256, scheme: schemeDSA},
	0x0203: {Hash: crypto.SHA1, scheme: schemeECDSA}, 0x0303: {Hash: crypto.SHA224, scheme: schemeECDSA},
	0x0403: {Hash: crypto.SHA256, scheme: schemeECDSA},
	0x0503: {Hash: crypto.SHA384, scheme: schemeECDSA}, 0x0603: {Hash: crypto.SHA512, scheme: schemeECDSA},
	0x0804: {Hash: crypto.SHA256, scheme: schemePSS, saltLength: 32},
	0x0805: {Hash: crypto.SHA384, scheme: schemePSS, saltLength: 48},
	0x0806: {Hash: crypto.SHA512, scheme: schemePSS, saltLength: 64},
	0x0809: {Hash: crypto.SHA256, scheme: schemePSS, saltLength: 32},
	0x080a: {Hash: crypto.SHA384, scheme: schemePSS, saltLength: 48},
	0x080b: {Hash: crypto.SHA512, scheme: schemePSS, saltLength: 64},
	0x0807: {scheme: schemeEd25519},
}

// CheckHandshake verifies what an endpoint signed in a TLS handshake under the
// key. The scheme is 0 before TLS 1.2, where the key decides (RFC 4346, 7.4.3).
// The error is nil, ErrBadSignature or ErrUnverifiable.
func CheckHandshake(key PublicKey, scheme uint16, message, signature []byte) error {
	if scheme == 0 {
		switch key.Algorithm {
		case KeyRSA:
			both := append(sum(crypto.MD5, message), sum(crypto.SHA1, message)...)
			return verifyRSA(key, signature, func(encoded []byte, _ int) bool { return bareFits(encoded, both) })
		case KeyDSA:
			scheme = 0x0202
		default:
			scheme = 0x0203
		}
	}
	a, ok := handshakeSchemes[scheme]
	if !ok {
		return fmt.Errorf("%w: signature scheme %#04x", ErrUnverifiable, scheme)
	}
	return verifySignature(a, key, message, signature)
}

func sum(h crypto.Hash, data []byte) []byte {
	state := h.New()
	state.Write(data)
	return state.Sum(nil)
}

// bareFits compares with PKCS #1 padding around a digest without its identifier.
func bareFits(encoded, digest []byte) bool {
	padding := len(encoded) - 3 - len(digest)
	if padding < 8 {
		return false
	}
	want := append([]byte{0, 1}, bytes.Repeat([]byte{0xff}, padding)...)
	return bytes.Equal(encoded, append(append(want, 0), digest...))
}
