package pki

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"
)

// Fingerprint is a SHA-256 digest: of a certificate's DER or of a key's
// SubjectPublicKeyInfo. The zero value is none.
type Fingerprint [sha256.Size]byte

// FingerprintOf digests the bytes.
func FingerprintOf(der []byte) Fingerprint { return sha256.Sum256(der) }

// ParseFingerprint reads hexadecimal digits in any case, with or without colons.
func ParseFingerprint(text string) (Fingerprint, error) {
	var f Fingerprint
	raw, err := hex.DecodeString(strings.ReplaceAll(text, ":", ""))
	if err != nil || len(raw) != len(f) {
		return f, fmt.Errorf("%q is no SHA-256 fingerprint: give 64 hexadecimal digits, with or without colons",
			clip(text))
	}
	copy(f[:], raw)
	return f, nil
}

// IsZero reports whether this is no fingerprint.
func (f Fingerprint) IsZero() bool { return f == Fingerprint{} }

// String returns 64 lower-case hexadecimal digits.
func (f Fingerprint) String() string { return hex.EncodeToString(f[:]) }

// MarshalText implements encoding.TextMarshaler.
func (f Fingerprint) MarshalText() ([]byte, error) { return []byte(f.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (f *Fingerprint) UnmarshalText(text []byte) (err error) {
	*f, err = ParseFingerprint(string(text))
	return err
}
