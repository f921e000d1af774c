package inventory

import (
	encodingasn1 "encoding/asn1"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"strconv"
	"unicode/utf16"

	"golang.org/x/crypto/cryptobyte"
	"golang.org/x/crypto/cryptobyte/asn1"

	"nurvik/core/pki"
)

// extensionFields are all extensions in their order, those that are not known in hexadecimal.
func extensionFields(c *pki.Certificate) []Field {
	var out []Field
	seen := map[pki.OID]bool{}
	for _, x := range c.Extensions {
		f := Field{Name: identifier(x.ID), Offset: x.Offset}
		if x.Critical {
			f.Name += ", critical"
		}
		if read := extensionWords[x.ID]; read != nil && !seen[x.ID] { // of doubled ones the first was decoded
			f.Values = read(c, x.Value)
		}
		seen[x.ID] = true
		if len(f.Values) == 0 {
			f.Values = []string{hexadecimal(x.Value)}
		}
		out = append(out, f)
	}
	return out
}

// extensionWords say what an extension holds; an empty result shows its bytes.
var extensionWords = map[pki.OID]func(c *pki.Certificate, value []byte) []string{
	"2.5.29.17": func(c *pki.Certificate, _ []byte) []string { return names(c.AltNames) },
	"2.5.29.18": func(c *pki.Certificate, _ []byte) []string { return names(c.IssuerAltNames) },
	"2.5.29.19": basicConstraints,
	"2.5.29.15": func(c *pki.Certificate, _ []byte) []string { return c.KeyUsage.Words() },
	"2.5.29.37": func(c *pki.Certificate, _ []byte) []string { return identifiers(c.ExtKeyUsage) },
	"2.5.29.14": func(c *pki.Certificate, _ []byte) []string { return bytesOf(c.SubjectKeyID) },
	"2.5.29.35": authorityKey,
	"1.3.6.1.5.5.7.1.1": func(c *pki.Certificate, _ []byte) []string {
		var out []string
		for _, a := range c.AuthorityInfo {
			out = append(out, a.Method.Words()+" at "+pki.Printable(a.Location.String()))
		}
		return out
	},
	"2.5.29.31":               func(c *pki.Certificate, _ []byte) []string { return points(c.CRLDistributionPoints) },
	"2.5.29.32":               func(c *pki.Certificate, _ []byte) []string { return identifiers(c.Policies) },
	"2.5.29.30":               nameConstraints,
	"2.5.29.33":               policyMappings,
	"2.5.29.36":               policyConstraints,
	"2.5.29.54":               skipCerts,
	"1.3.6.1.5.5.7.1.24":      tlsFeatures,
	"1.3.6.1.4.1.11129.2.4.2": timestamps,
	"1.3.6.1.5.5.7.48.1.5": func(*pki.Certificate,
		[]byte) []string {
		return []string{"answers of this signer need no check"}
	},
	"2.5.29.56": func(*pki.Certificate,
		[]byte) []string {
		return []string{"its issuer publishes no revocation for it"}
	},
	"1.3.6.1.4.1.311.20.2":   text,
	"1.3.6.1.4.1.311.21.7":   template,
	"2.16.840.1.113730.1.13": text,
}

func names(list []pki.GeneralName) []string {
	var out []string
	for _, n := range list {
		out = append(out, pki.Printable(n.String()))
	}
	return out
}

func identifiers(ids []pki.OID) []string {
	var out []string
	for _, id := range ids {
		out = append(out, identifier(id))
	}
	return out
}

func bytesOf(b []byte) []string {
	if len(b) == 0 {
		return nil
	}
	return []string{hexadecimal(b)}
}

func basicConstraints(c *pki.Certificate, _ []byte) []string {
	b := c.BasicConstraints
	switch {
	case b == nil:
		return nil
	case !b.CA:
		return []string{"not a CA"}
	case b.PathLength != nil:
		return []string{fmt.Sprintf("authority, at most %d authorities below it", *b.PathLength)}
	}
	return []string{"authority"}
}

func authorityKey(c *pki.Certificate, _ []byte) []string {
	out := bytesOf(c.AuthorityKeyID)
	if len(c.AuthorityIssuer) > 0 {
		out = append(out, "issuer "+joinNames(c.AuthorityIssuer))
	}
	if len(c.AuthoritySerial) > 0 {
		out = append(out, "serial number "+hexadecimal(c.AuthoritySerial))
	}
	return out
}

func points(list []pki.DistributionPoint) []string {
	var out []string
	for _, p := range list {
		words := joinNames(p.FullName)
		if len(p.Relative) > 0 {
			words = "a name relative to the issuer"
		}
		if len(p.Reasons) > 0 {
			words += ", for some reasons only"
		}
		if len(p.Issuer) > 0 {
			words += ", issued by " + joinNames(p.Issuer)
		}
		out = append(out, words)
	}
	return out
}

func nameConstraints(c *pki.Certificate, _ []byte) []string {
	if c.NameConstraints == nil {
		return nil
	}
	var out []string
	for _, n := range c.NameConstraints.Permitted {
		out = append(out, "permitted "+pki.Printable(n.String()))
	}
	for _, n := range c.NameConstraints.Excluded {
		out = append(out, "excluded "+pki.Printable(n.String()))
	}
	return out
}

func policyMappings(c *pki.Certificate, _ []byte) []string {
	var out []string
	for _, m := range c.PolicyMappings {
		out = append(out, m.Issuer.Words()+" counts as "+m.Subject.Words())
	}
	return out
}

func policyConstraints(c *pki.Certificate, _ []byte) []string {
	return append(after(c.PolicyConstraints.RequireExplicit, "a policy is required after %d more certificates"),
		after(c.PolicyConstraints.InhibitMapping, "mappings end after %d more certificates")...)
}

func skipCerts(c *pki.Certificate, _ []byte) []string {
	return after(c.PolicyConstraints.InhibitAny, "anyPolicy counts for %d more certificates")
}

func after(count *int, words string) []string {
	if count == nil {
		return nil
	}
	return []string{fmt.Sprintf(words, *count)}
}

// tlsFeatures: RFC 7633.
func tlsFeatures(_ *pki.Certificate, value []byte) []string {
	var list cryptobyte.String
	s := cryptobyte.String(value)
	if !s.ReadASN1(&list, asn1.SEQUENCE) {
		return nil
	}
	var out []string
	for !list.Empty() {
		var n int
		if !list.ReadASN1Integer(&n) {
			return nil
		}
		words := "extension " + strconv.Itoa(n)
		if n == 5 {
			words = "a stapled revocation answer is required"
		}
		out = append(out, words)
	}
	return out
}

// timestamps: RFC 6962, 3.2 and 3.3.
func timestamps(c *pki.Certificate, _ []byte) []string {
	var out []string
	for _, t := range c.Timestamps() {
		out = append(out, fmt.Sprintf("log %s, %s", base64.StdEncoding.EncodeToString(t.Log[:]), exact(t.At)))
	}
	return out
}

// text reads an extension that is one string.
func text(_ *pki.Certificate, value []byte) []string {
	var content cryptobyte.String
	var tag asn1.Tag
	s := cryptobyte.String(value)
	if !s.ReadAnyASN1(&content, &tag) {
		return nil
	}
	switch tag {
	case asn1.UTF8String, asn1.IA5String:
		return []string{pki.Printable(string(content))}
	case bmpString:
		units := make([]uint16, len(content)/2)
		for i := range units {
			units[i] = binary.BigEndian.Uint16(content[2*i:])
		}
		return []string{pki.Printable(string(utf16.Decode(units)))}
	}
	return nil
}

// bmpString has two bytes a character (X.680).
const bmpString asn1.Tag = 30

// template is the certificate template of a CA of a Windows domain, with its version.
func template(_ *pki.Certificate, value []byte) []string {
	var inner cryptobyte.String
	var id encodingasn1.ObjectIdentifier
	s := cryptobyte.String(value)
	if !s.ReadASN1(&inner, asn1.SEQUENCE) || !inner.ReadASN1ObjectIdentifier(&id) {
		return nil
	}
	words := "template " + id.String()
	for _, part := range []string{", version ", "."} {
		var n int
		if inner.Empty() || !inner.ReadASN1Integer(&n) {
			break
		}
		words += part + strconv.Itoa(n)
	}
	return []string{words}
}
