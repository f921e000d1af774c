package pki

import (
	"errors"
	"fmt"
	"math/big"
	"slices"
	"time"

	"golang.org/x/crypto/cryptobyte"
)

// Certificate is a decoded X.509 certificate (RFC 5280, 4.1). Slices point into Raw.
type Certificate struct {
	Raw, RawTBS []byte
	Version     int      // 1, 2 or 3
	Serial      *big.Int // may be zero or negative, with an anomaly
	RawSerial   []byte   // contents of the INTEGER

	SignatureAlgorithm      SignatureAlgorithm // of the outer structure
	InnerSignatureAlgorithm SignatureAlgorithm // of the part that is signed
	Signature               []byte

	Issuer, Subject     Name
	NotBefore, NotAfter time.Time // zero when it could not be made out
	PublicKey           PublicKey

	IssuerUniqueID, SubjectUniqueID []byte

	Extensions            []Extension
	Unprocessed           []Unprocessed // extensions that could not be processed
	AltNames              []GeneralName
	IssuerAltNames        []GeneralName
	BasicConstraints      *BasicConstraints
	KeyUsage              KeyUsage
	HasKeyUsage           bool
	ExtKeyUsage           []OID
	HasExtKeyUsage        bool
	SubjectKeyID          []byte
	AuthorityKeyID        []byte
	AuthorityIssuer       []GeneralName
	AuthoritySerial       []byte
	AuthorityInfo         []AccessDescription
	CRLDistributionPoints []DistributionPoint
	FreshestCRL           []DistributionPoint
	MustStaple            bool // clients are to require a stapled OCSP response (RFC 7633)
	NoRevocation          bool // its issuer gives no revocation information for it (RFC 9608)
	NoRevocationCheck     bool // of a responder: it is not to be asked about (RFC 6960, 4.2.2.2.1)
	Policies              []OID
	HasPolicies           bool
	PolicyMappings        []PolicyMapping
	PolicyConstraints     PolicyConstraints
	NameConstraints       *NameConstraints

	Anomalies []Anomaly

	fingerprint Fingerprint
}

// ErrMalformed is wrapped by every error of ParseCertificate.
var ErrMalformed = errors.New("not a certificate that can be read")

// MalformedError says where the outer structure breaks.
type MalformedError struct {
	Offset int // in bytes
	Reason string
}

func (e *MalformedError) Error() string {
	return fmt.Sprintf("%v: at byte %d: %s", ErrMalformed, e.Offset, e.Reason)
}

// Unwrap makes errors.Is(err, ErrMalformed) true.
func (e *MalformedError) Unwrap() error { return ErrMalformed }

// ParseCertificate decodes one certificate. Whatever can be read past is an
// anomaly of the result; the error is a *MalformedError. The certificate keeps
// a reference to der, which must not change afterwards.
func ParseCertificate(der []byte) (*Certificate, error) {
	d := newDecoder(der)
	s := cryptobyte.String(d.base)
	outer, ok := d.take(&s, tagSequence, "certificate")
	if !ok {
		return nil, broken(der)
	}
	d.finish(s, "certificate")
	c := &Certificate{Raw: outer.full, fingerprint: FingerprintOf(outer.full)}
	inner := cryptobyte.String(outer.content)
	tbs, ok := d.take(&inner, tagSequence, "tbsCertificate")
	if !ok {
		return nil, &MalformedError{d.offset(inner), "the part to be signed is missing or cut off"}
	}
	c.RawTBS = tbs.full
	if err := d.tbs(tbs, c); err != nil {
		return nil, err
	}
	if alg, ok := d.take(&inner, tagSequence, "signatureAlgorithm"); ok {
		c.SignatureAlgorithm = d.signatureAlgorithm(alg, "signatureAlgorithm")
		if string(alg.full) != string(c.InnerSignatureAlgorithm.Raw) {
			d.note(alg.full, "signatureAlgorithm", "RFC 5280 section 4.1.1.2",
				"the algorithm differs from the one inside the part that is signed")
		}
	} else {
		d.note(inner, "signatureAlgorithm", "RFC 5280 section 4.1.1.2", "the signature algorithm is missing")
	}
	if sig, ok := d.take(&inner, tagBitString, "signatureValue"); ok {
		c.Signature, _, _ = d.bitString(sig, "signatureValue")
	} else {
		d.note(inner, "signatureValue", "RFC 5280 section 4.1.1.3", "the signature is missing")
	}
	d.finish(inner, "certificate")
	c.Anomalies = d.anomalies
	return c, nil
}

// broken explains why no outer SEQUENCE could be read.
func broken(der []byte) error {
	switch {
	case len(der) == 0:
		return &MalformedError{0, "there are no bytes"}
	case der[0] != tagSequence:
		return &MalformedError{0, fmt.Sprintf("it begins with %#02x, a certificate begins with 0x30", der[0])}
	case len(der) > 1 && der[1] == 0x80:
		return &MalformedError{1, "the length is indefinite, which DER forbids"}
	}
	return &MalformedError{len(der), fmt.Sprintf("it ends after %d bytes, before the length that it states: cut off",
		len(der))}
}

// tbs decodes the TBSCertificate (RFC 5280, 4.1.2). Only a field order that cannot be followed is an error.
func (d *decoder) tbs(tbs element, c *Certificate) error {
	s := cryptobyte.String(tbs.content)
	missing := func(field string) error {
		return &MalformedError{d.offset(s), field + " is missing or cut off"}
	}
	c.Version = d.version(&s)

	serial, ok := d.take(&s, tagInteger, "serialNumber")
	if !ok {
		return missing("the serial number")
	}
	d.serial(serial, c)
	alg, ok := d.take(&s, tagSequence, "signature")
	if !ok {
		return missing("the inner signature algorithm")
	}
	c.InnerSignatureAlgorithm = d.signatureAlgorithm(alg, "signature")
	issuer, ok := d.take(&s, tagSequence, "issuer")
	if !ok {
		return missing("the issuer")
	}
	c.Issuer = d.name(issuer, "issuer")
	if c.Issuer.Empty() {
		d.note(issuer.full, "issuer", sectionName, "the issuer is empty")
	}
	validity, ok := d.take(&s, tagSequence, "validity")
	if !ok {
		return missing("the validity")
	}
	d.validity(validity, c)
	subject, ok := d.take(&s, tagSequence, "subject")
	if !ok {
		return missing("the subject")
	}
	c.Subject = d.name(subject, "subject")
	key, ok := d.take(&s, tagSequence, "subjectPublicKeyInfo")
	if !ok {
		return missing("the public key")
	}
	c.PublicKey = d.publicKey(key)

	d.tail(&s, c)
	if c.Subject.Empty() && len(c.AltNames) == 0 {
		d.note(subject.full, "subject", "RFC 5280 section 4.1.2.6",
			"the subject is empty and there are no alternative names")
	}
	return nil
}

func (d *decoder) version(s *cryptobyte.String) int {
	el, ok := d.optional(s, contextTag(0, true), "version")
	if !ok {
		return 1
	}
	inner := cryptobyte.String(el.content)
	number, ok := d.take(&inner, tagInteger, "version")
	if !ok {
		d.note(el.full, "version", "RFC 5280 section 4.1.2.1", "the version is no integer")
		return 3
	}
	d.finish(inner, "version")
	v, _ := d.smallInt(number, "version")
	if v > 2 || v == 0 {
		d.note(number.full, "version", "RFC 5280 section 4.1.2.1",
			"the version number %d is not 1 or 2, which stand for v2 and v3", v)
	}
	return v + 1
}

func (d *decoder) serial(el element, c *Certificate) {
	const field, section = "serialNumber", "RFC 5280 section 4.1.2.2"
	c.RawSerial = el.content
	c.Serial = d.integer(el, field)
	switch {
	case len(el.content) == 0:
	case c.Serial.Sign() < 0:
		d.note(el.full, field, section, "the serial number is negative")
	case c.Serial.Sign() == 0:
		d.note(el.full, field, section, "the serial number is zero")
	case len(el.content) > 20:
		d.note(el.full, field, section, "the serial number has %d bytes, at most 20 are allowed", len(el.content))
	}
}

func (d *decoder) validity(el element, c *Certificate) {
	s := cryptobyte.String(el.content)
	for _, end := range []struct {
		field string
		into  *time.Time
	}{{"notBefore", &c.NotBefore}, {"notAfter", &c.NotAfter}} {
		value, ok := d.next(&s, end.field)
		if !ok {
			d.note(s, end.field, sectionTime, "the time is missing")
			return
		}
		*end.into, _ = d.time(value, end.field)
	}
	d.finish(s, "validity")
	if !c.NotBefore.IsZero() && !c.NotAfter.IsZero() && c.NotAfter.Before(c.NotBefore) {
		d.note(el.full, "validity", sectionTime, "it ends before it begins")
	}
}

// tail decodes what may follow the key: unique identifiers and extensions.
func (d *decoder) tail(s *cryptobyte.String, c *Certificate) {
	for _, unique := range []struct {
		tag  byte
		into *[]byte
	}{{1, &c.IssuerUniqueID}, {2, &c.SubjectUniqueID}} {
		el, ok := d.optional(s, contextTag(unique.tag, false), "uniqueID")
		if !ok {
			continue
		}
		*unique.into, _, _ = d.bitString(el, "uniqueID")
		if c.Version < 2 {
			d.note(el.full, "uniqueID", "RFC 5280 section 4.1.2.8", "a version 1 certificate has a unique identifier")
		}
	}
	if el, ok := d.optional(s, contextTag(3, true), "extensions"); ok {
		if c.Version != 3 {
			d.note(el.full, "extensions", "RFC 5280 section 4.1.2.9", "a version %d certificate has extensions",
				c.Version)
		}
		inner := cryptobyte.String(el.content)
		if list, ok := d.take(&inner, tagSequence, "extensions"); ok {
			d.extensions(list.content, c)
		} else {
			d.note(el.full, "extensions", "RFC 5280 section 4.1.2.9", "the extensions are malformed")
			c.Unprocessed = append(c.Unprocessed, Unprocessed{Critical: true, Reason: "the extensions are malformed"})
		}
		d.finish(inner, "extensions")
	}
	d.finish(*s, "tbsCertificate")
}

// Fingerprint is the SHA-256 of the certificate's DER.
func (c *Certificate) Fingerprint() Fingerprint { return c.fingerprint }

// IsCA reports whether the certificate may be an authority: basic constraints
// say so, or it is a self-issued certificate of version 1, which has none.
func (c *Certificate) IsCA() bool {
	if c.BasicConstraints != nil {
		return c.BasicConstraints.CA
	}
	return c.Version == 1 && c.SelfIssued()
}

// SelfIssued reports whether issuer and subject are the same name.
func (c *Certificate) SelfIssued() bool { return c.Issuer.Key() == c.Subject.Key() }

// UnknownCritical lists critical extensions that a client of this engine does not process (RFC 5280, 4.2).
func (c *Certificate) UnknownCritical() []OID {
	var out []OID
	for _, x := range c.Extensions {
		if x.Critical && !processed[x.ID] {
			out = append(out, x.ID)
		}
	}
	return out
}

// HasExtension reports whether there is an extension of the identifier, be it readable or not.
func (c *Certificate) HasExtension(id OID) bool {
	return slices.ContainsFunc(c.Extensions, func(x Extension) bool { return x.ID == id })
}

// Refused says which extension keeps the certificate out of any valid path, and why; false where none does.
func (c *Certificate) Refused() (what string, refused bool) {
	for _, u := range c.Unprocessed {
		switch {
		case !u.Critical:
		case u.ID == "":
			return u.Reason, true
		default:
			return fmt.Sprintf("extension %s: %s", u.ID.Words(), u.Reason), true
		}
	}
	if unknown := c.UnknownCritical(); len(unknown) > 0 {
		return "extension " + unknown[0].Words(), true
	}
	return "", false
}

// processed are the extensions that ordinary clients process when critical.
var processed = map[OID]bool{
	oidSubjectAltName: true, oidIssuerAltName: true, oidBasicConstraints: true, oidKeyUsage: true, oidExtKeyUsage: true,
	oidSubjectKeyID: true, oidAuthorityKeyID: true, oidAuthorityInfo: true, oidCRLDistribution: true, oidPolicies: true,
	oidPolicyMappings: true, oidPolicyConstraints: true, oidInhibitAnyPolicy: true, oidNameConstraints: true,
	oidFreshestCRL: true,
}

// URLs returns the addresses of the access method, such as where the issuer's
// certificate can be had, fit to be shown.
func (c *Certificate) URLs(method OID) []string {
	var out []string
	for _, a := range c.AuthorityInfo {
		if a.Method == method && a.Location.Kind == NameURI {
			out = append(out, Printable(a.Location.Value))
		}
	}
	return out
}
