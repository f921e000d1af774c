package pki

import (
	"iter"
	"math/big"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// OID is an object identifier in dotted notation. The zero value is none.
type OID string

// parseOID decodes an OBJECT IDENTIFIER's contents (X.690, 8.19). Arcs of any
// size are kept.
func parseOID(content []byte) (OID, bool) {
	if id, ok := encodedOIDs()[string(content)]; ok {
		return id, true
	}
	return parseAnyOID(content)
}

// encodedOIDs are the identifiers that are known here, by their encoding:
// nearly all that occur, so that no text is made for them.
var encodedOIDs = sync.OnceValue(func() map[string]OID {
	known := map[string]OID{}
	add := func(id OID) { known[string(id.der()[2:])] = id }
	for id := range words {
		add(id)
	}
	for id := range attributeWords {
		add(id)
	}
	for id := range keyAlgorithms {
		add(id)
	}
	for id := range signatureAlgorithms {
		add(id)
	}
	for id := range curves {
		add(id)
	}
	return known
})

func parseAnyOID(content []byte) (OID, bool) {
	if len(content) == 0 || len(content) > 256 || content[len(content)-1]&0x80 != 0 {
		return "", false
	}
	text := make([]byte, 0, 32)
	for first := true; len(content) > 0; first = false {
		end := slices.IndexFunc(content, func(b byte) bool { return b&0x80 == 0 })
		digits := content[:end+1]
		content = content[end+1:]
		if digits[0] == 0x80 { // a padded arc is not the shortest form
			return "", false
		}
		arc, fits := smallArc(digits)
		switch {
		case !fits:
			text = appendHugeArc(text, digits, first)
		case first: // the first two arcs share a number (X.690, 8.19.4)
			top := min(arc/40, 2)
			text = strconv.AppendUint(append(strconv.AppendUint(text, top, 10), '.'), arc-40*top, 10)
		default:
			text = strconv.AppendUint(append(text, '.'), arc, 10)
		}
	}
	return OID(text), true
}

// smallArc reads base-128 digits and reports whether they fit in 63 bits, as nearly all do.
func smallArc(digits []byte) (arc uint64, fits bool) {
	if len(digits) > 9 {
		return 0, false
	}
	for _, b := range digits {
		arc = arc<<7 | uint64(b&0x7f)
	}
	return arc, true
}

// appendHugeArc writes an arc of any size.
func appendHugeArc(text, digits []byte, first bool) []byte {
	arc := new(big.Int)
	for _, b := range digits {
		arc.Lsh(arc, 7)
		arc.Or(arc, big.NewInt(int64(b&0x7f)))
	}
	if first {
		text = append(text, '2')
		arc.Sub(arc, big.NewInt(80))
	}
	return arc.Append(append(text, '.'), 10)
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
	oidFeatures          OID = "1.3.6.1.5.5.7.1.24" // RFC 7633
	oidTimestamps        OID = "1.3.6.1.4.1.11129.2.4.2"
	oidNoRevocation      OID = "2.5.29.56"            // RFC 9608
	oidOCSPNoCheck       OID = "1.3.6.1.5.5.7.48.1.5" // RFC 6960, 4.2.2.2.1
)

// Access methods and extended key usages (RFC 5280, 4.2.1.12 and 4.2.2.1).
const (
	AccessOCSP       OID = "1.3.6.1.5.5.7.48.1"
	AccessCAIssuers  OID = "1.3.6.1.5.5.7.48.2"
	UsageServerAuth  OID = "1.3.6.1.5.5.7.3.1"
	UsageClientAuth  OID = "1.3.6.1.5.5.7.3.2"
	UsageOCSPSigning OID = "1.3.6.1.5.5.7.3.9"
	UsageAny         OID = "2.5.29.37.0"

	UsageMailProtection OID = "1.3.6.1.5.5.7.3.4"
)

// words gives object identifiers their usual names, for people.
var words = map[OID]string{
	oidSubjectKeyID: "subject key identifier", oidKeyUsage: "key usage", oidSubjectAltName: "subject alternative name",
	oidIssuerAltName: "issuer alternative name", oidBasicConstraints: "basic constraints",
	oidNameConstraints: "name constraints",
	oidCRLDistribution: "CRL distribution points", oidPolicies: "certificate policies",
	oidPolicyMappings: "policy mappings",
	oidAuthorityKeyID: "authority key identifier", oidPolicyConstraints: "policy constraints",
	oidExtKeyUsage:      "extended key usage",
	oidInhibitAnyPolicy: "inhibit anyPolicy", oidAuthorityInfo: "authority information access",
	AccessOCSP: "OCSP", AccessCAIssuers: "CA issuers", UsageServerAuth: "TLS server", UsageAny: "any usage",
	UsageClientAuth: "TLS client", "1.3.6.1.5.5.7.3.3": "code signing", UsageMailProtection: "e-mail protection",
	"1.3.6.1.5.5.7.3.8": "time stamping", UsageOCSPSigning: "OCSP signing",
	oidFeatures: "TLS feature", oidTimestamps: "signed certificate timestamps",
	"1.3.6.1.4.1.11129.2.4.3": "precertificate poison", "1.2.840.113549.1.9.2": "unstructured name",
	"2.5.29.32.0": "any policy",
	"2.5.29.9":    "subject directory attributes", oidFreshestCRL: "freshest CRL", oidCRLNumber: "CRL number",
	"2.5.29.16": "private key usage period", "1.3.6.1.5.5.7.1.3": "qualified certificate statements",
	"2.16.840.1.113730.1.1": "old certificate type", "2.16.840.1.113730.1.13": "old comment",
	oidOCSPNoCheck:         "OCSP no check",
	"1.3.6.1.4.1.311.20.2": "template name", "1.3.6.1.4.1.311.21.7": "template",
	"1.3.6.1.4.1.311.20.2.2": "smart-card sign-in", "1.3.6.1.4.1.311.13.2.1": "enrolment settings",
	"1.3.6.1.4.1.311.13.2.2": "cryptographic provider", "1.3.6.1.4.1.311.13.2.3": "operating system version",
	"1.3.6.1.4.1.311.21.20": "client information",
	"1.3.6.1.5.5.7.3.17":    "IPsec", oidNoRevocation: "no revocation available",
	oidChallengePassword: "challenge password", oidExtensionRequest: "extension request",
	oidExtensionRequestOld: "extension request",
	"1.2.840.113549.1.7.1": "data", oidSignedData: "signed data", "1.2.840.113549.1.7.3": "enveloped data",
	"1.2.840.113549.1.7.6": "encrypted data",
}

// plausible reports whether the identifier has the form of one.
func (id OID) plausible() bool { return len(id) > 4 }

// Words returns the usual name of the identifier, or its dotted form when it has none here.
func (id OID) Words() string {
	if w, ok := words[id]; ok {
		return w
	}
	return string(id)
}

// splitArcs yields the arcs as numbers.
func splitArcs(id OID) iter.Seq[int] {
	return func(yield func(int) bool) {
		for text := range strings.SplitSeq(string(id), ".") {
			arc, err := strconv.Atoi(text)
			if err != nil || !yield(arc) {
				return
			}
		}
	}
}
