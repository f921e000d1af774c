// Package wanted understands what somebody looks for: a certificate or key by
// its serial number, fingerprint, key digest, host name or subject, in any of the
// ways in which people write them.
package wanted

import (
	"errors"
	"math/big"
	"slices"
	"strings"

	"nurvik/core/naming"
	"nurvik/core/pki"
)

// Thing is what is looked for. A text that can be read in several ways is tried in all of them.
type Thing struct {
	Text    string
	Serials []string         // hexadecimal, lower case, an even number of digits
	Digest  *pki.Fingerprint // of a certificate or of a public key
	Name    string           // a host name, or a part of a subject; lower case
}

// ErrNothing says that the text is empty.
var ErrNothing = errors.New("say what to look for: a serial number, fingerprint, key digest, name or subject")

// longestSerial is how many hexadecimal digits a serial number may have: RFC 5280, 4.1.2.2, allows 20 bytes, and some
// are longer.
const longestSerial = 64

// Parse reads a serial number (decimal, or hexadecimal with or without colons), a fingerprint, a key digest, a name or
// a subject. Digits alone are tried as decimal and as hexadecimal.
func Parse(text string) (Thing, error) {
	text = strings.TrimSpace(text)
	t := Thing{Text: text, Name: strings.ToLower(strings.TrimSuffix(text, "."))}
	if text == "" {
		return t, ErrNothing
	}
	digits := strings.TrimPrefix(strings.ToLower(text), "0x")
	digits = strings.NewReplacer(":", "", " ", "", "-", "").Replace(digits)
	if digits == "" || strings.Trim(digits, "0123456789abcdef") != "" {
		return t, nil
	}
	if f, err := pki.ParseFingerprint(digits); err == nil {
		t.Digest = &f
	}
	if len(digits) <= longestSerial {
		t.Serials = append(t.Serials, even(digits))
	}
	if strings.Trim(text, "0123456789") == "" && len(text) <= 2*longestSerial {
		if n, ok := new(big.Int).SetString(text, 10); ok {
			if serial := even(n.Text(16)); !slices.Contains(t.Serials, serial) {
				t.Serials = append(t.Serials, serial)
			}
		}
	}
	return t, nil
}

// even writes hexadecimal digits as serial numbers are kept: without leading zeros, in whole bytes.
func even(digits string) string {
	digits = strings.TrimLeft(digits, "0")
	if len(digits)%2 == 1 || digits == "" {
		digits = "0" + digits
	}
	if digits == "0" {
		digits = "00"
	}
	return digits
}

// Certificate says by what the certificate is found: "fingerprint", "key", "serial number", "name" or "subject"; ""
// when it is not the one.
func (t Thing) Certificate(c *pki.Certificate) string {
	switch {
	case t.Digest != nil && c.Fingerprint() == *t.Digest:
		return "fingerprint"
	case t.Key(c.PublicKey):
		return "key"
	case slices.Contains(t.Serials, c.SerialHex()):
		return "serial number"
	}
	if reference, err := naming.Parse(t.Name); err == nil {
		if _, covered := reference.CoveredBy(c); covered {
			return "name"
		}
	}
	if slices.ContainsFunc(c.HostNames(), func(n string) bool { return strings.EqualFold(n, t.Name) }) {
		return "name"
	}
	if strings.Contains(strings.ToLower(c.Subject.String()), t.Name) {
		return "subject"
	}
	return ""
}

// Key reports whether the public key is the one that is looked for.
func (t Thing) Key(k pki.PublicKey) bool {
	return t.Digest != nil && (k.Fingerprint() == *t.Digest || k.Match() == *t.Digest)
}
