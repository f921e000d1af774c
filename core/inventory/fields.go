package inventory

import (
	"encoding/hex"
	"fmt"
	"math/big"
	"strconv"
	"strings"
	"time"

	"nurvik/core/pki"
)

func field(name string, values ...string) Field { return Field{Name: name, Values: values} }

// exact writes a time to the second.
func exact(t time.Time) string {
	if t.IsZero() {
		return "could not be made out"
	}
	return t.UTC().Format("2006-01-02 15:04:05 UTC")
}

func certificateFields(c *pki.Certificate) []Field {
	out := []Field{
		field("version", strconv.Itoa(c.Version)),
		field("serial number", serial(c)),
		field("signature algorithm", named(c.SignatureAlgorithm.Name, c.SignatureAlgorithm.ID)),
		field("issuer", orNone(c.Issuer.String())),
		field("valid from", exact(c.NotBefore)),
		field("valid until", exact(c.NotAfter)),
		field("subject", orNone(c.Subject.String())),
	}
	out = append(out, keyFields(c.PublicKey)...)
	for _, unique := range []struct {
		name string
		bits []byte
	}{{"issuer unique identifier", c.IssuerUniqueID}, {"subject unique identifier", c.SubjectUniqueID}} {
		if len(unique.bits) > 0 {
			out = append(out, field(unique.name, hexadecimal(unique.bits)))
		}
	}
	out = append(out, extensionFields(c)...)
	return append(out,
		field("signature", fmt.Sprintf("%d bytes", len(c.Signature))),
		field("SHA-256", c.Fingerprint().String()))
}

func serial(c *pki.Certificate) string {
	if c.Serial != nil && c.Serial.IsInt64() {
		return fmt.Sprintf("%s (%d)", c.SerialHex(), c.Serial)
	}
	return c.SerialHex()
}

// named is an identifier's name with its dotted form behind it.
func named(name string, id pki.OID) string {
	if name == "" || name == string(id) {
		return string(id)
	}
	return fmt.Sprintf("%s (%s)", name, id)
}

func identifier(id pki.OID) string { return named(id.Words(), id) }

func orNone(text string) string {
	if text == "" {
		return "none"
	}
	return text
}

func keyFields(k pki.PublicKey) []Field {
	out := []Field{field("public key", named(k.String(), k.ID))}
	if k.N != nil {
		out = append(out, field("modulus", fmt.Sprintf("%d bits: %s", k.N.BitLen(), shortNumber(k.N))),
			field("public exponent", k.E.String()))
	}
	return append(out, field("public key SHA-256", k.Fingerprint().String()))
}

// shortNumber shows the ends of a large number.
func shortNumber(n *big.Int) string {
	digits := n.Text(16)
	if len(digits) > 40 {
		return digits[:16] + "…" + digits[len(digits)-16:]
	}
	return digits
}

func requestFields(q *pki.Request) []Field {
	out := []Field{
		field("version", strconv.Itoa(q.Version+1)),
		field("subject", orNone(q.Subject.String())),
	}
	out = append(out, keyFields(q.PublicKey)...)
	for _, id := range q.Attributes {
		out = append(out, field("attribute", identifier(id)))
	}
	out = append(out, extensionFields(q.Wanted)...)
	signature := "made with the key inside"
	switch err := q.CheckSignature(); {
	case err == nil:
	default:
		signature = err.Error()
	}
	return append(out,
		field("signature algorithm", named(q.SignatureAlgorithm.Name, q.SignatureAlgorithm.ID)),
		field("signature", signature),
		field("SHA-256", pki.FingerprintOf(q.Raw).String()))
}

func listFields(l *pki.RevocationList) []Field {
	next := "not given"
	if !l.NextUpdate.IsZero() {
		next = exact(l.NextUpdate)
	}
	out := []Field{
		field("version", strconv.Itoa(l.Version)),
		field("issuer", orNone(l.Issuer.String())),
		field("this update", exact(l.ThisUpdate)),
		field("next update", next),
		field("revoked certificates", strconv.Itoa(len(l.Revoked))),
	}
	if l.Number != nil {
		out = append(out, field("number of the list", l.Number.String()))
	}
	return append(out,
		field("signature algorithm", named(l.SignatureAlgorithm.Name, l.SignatureAlgorithm.ID)),
		field("SHA-256", pki.FingerprintOf(l.Raw).String()))
}

// hexadecimal shows bytes, the first of many.
func hexadecimal(b []byte) string {
	const most = 48
	if len(b) > most {
		return fmt.Sprintf("%s… (%d bytes)", hex.EncodeToString(b[:most]), len(b))
	}
	return hex.EncodeToString(b)
}

func printable(texts []string) []string {
	out := make([]string, len(texts))
	for i, t := range texts {
		out[i] = pki.Printable(t)
	}
	return out
}

func joinNames(names []pki.GeneralName) string {
	texts := make([]string, len(names))
	for i, n := range names {
		texts[i] = n.String()
	}
	return strings.Join(printable(texts), ", ")
}
