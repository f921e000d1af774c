package pki

import (
	"math/big"
	"strconv"
	"strings"
)

// OID is an object identifier in dotted notation. The zero value is none.
type OID string

// parseOID decodes an OBJECT IDENTIFIER's contents (X.690, 8.19). Arcs of any
// size are kept.
func parseOID(content []byte) (OID, bool) {
	if len(content) == 0 || len(content) > 256 || content[len(content)-1]&0x80 != 0 {
		return "", false
	}
	var text strings.Builder
	arc := new(big.Int)
	first, start := true, true
	for _, b := range content {
		if start && b == 0x80 { // a padded arc is not the shortest form
			return "", false
		}
		start = false
		arc.Lsh(arc, 7)
		arc.Or(arc, big.NewInt(int64(b&0x7f)))
		if b&0x80 != 0 {
			continue
		}
		if first {
			top := int64(2)
			if arc.IsInt64() && arc.Int64() < 80 {
				top = arc.Int64() / 40
			}
			arc.Sub(arc, big.NewInt(top*40))
			text.WriteString(strconv.FormatInt(top, 10))
			first = false
		}
		text.WriteByte('.')
		text.WriteString(arc.String())
		arc.SetInt64(0)
		start = true
	}
	return OID(text.String()), true
}

// Certificate extensions (RFC 5280, 4.2).
const (
	oidSubjectKeyID      OID = "2.5.29.14"
	oidKeyUsage          OID = "2.5.29.15"
	oidSubjectAltName    OID = "2.5.29.17"
	oidIssuerAltName     OID = "2.5.29.18"
	oidBasicConstraints  OID = "2.5.29.19"
	oidNameConstraints   OID = "2.5.29.30"
	oidCRLDistribution   OID = "2.5.29.31"
	oidPolicies          OID = "2.5.29.32"
	oidPolicyMappings    OID = "2.5.29.33"
	oidAuthorityKeyID    OID = "2.5.29.35"
	oidPolicyConstraints OID = "2.5.29.36"
	oidExtKeyUsage       OID = "2.5.29.37"
	oidInhibitAnyPolicy  OID = "2.5.29.54"
	oidAuthorityInfo     OID = "1.3.6.1.5.5.7.1.1"
)

// Access methods and extended key usages (RFC 5280, 4.2.1.12 and 4.2.2.1).
const (
	AccessOCSP      OID = "1.3.6.1.5.5.7.48.1"
	AccessCAIssuers OID = "1.3.6.1.5.5.7.48.2"
	UsageServerAuth OID = "1.3.6.1.5.5.7.3.1"
	UsageAny        OID = "2.5.29.37.0"
)

// words gives object identifiers their usual names, for people.
var words = map[OID]string{
	oidSubjectKeyID: "subject key identifier", oidKeyUsage: "key usage", oidSubjectAltName: "subject alternative name",
	oidIssuerAltName: "issuer alternative name", oidBasicConstraints: "basic constraints", oidNameConstraints: "name constraints",
	oidCRLDistribution: "CRL distribution points", oidPolicies: "certificate policies", oidPolicyMappings: "policy mappings",
	oidAuthorityKeyID: "authority key identifier", oidPolicyConstraints: "policy constraints", oidExtKeyUsage: "extended key usage",
	oidInhibitAnyPolicy: "inhibit anyPolicy", oidAuthorityInfo: "authority information access",
	AccessOCSP: "OCSP", AccessCAIssuers: "CA issuers", UsageServerAuth: "TLS server", UsageAny: "any usage",
	"1.3.6.1.5.5.7.3.2": "TLS client", "1.3.6.1.5.5.7.3.3": "code signing", "1.3.6.1.5.5.7.3.4": "e-mail protection",
	"1.3.6.1.5.5.7.3.8": "time stamping", "1.3.6.1.5.5.7.3.9": "OCSP signing",
	"1.3.6.1.5.5.7.1.24": "TLS feature", "1.3.6.1.4.1.11129.2.4.2": "signed certificate timestamps",
	"2.5.29.9": "subject directory attributes", "2.5.29.46": "freshest CRL",
}

// Words returns the usual name of the identifier, or its dotted form when it has none here.
func (id OID) Words() string {
	if w, ok := words[id]; ok {
		return w
	}
	return string(id)
}
