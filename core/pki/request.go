package pki

import (
	"fmt"

	"golang.org/x/crypto/cryptobyte"
)

// Attributes of a request (RFC 2985, 5.4).
const (
	oidChallengePassword   OID = "1.2.840.113549.1.9.7"
	oidExtensionRequest    OID = "1.2.840.113549.1.9.14"
	oidExtensionRequestOld OID = "1.3.6.1.4.1.311.2.1.14" // the same, as some servers write it
)

// Request is a decoded PKCS#10 certification request (RFC 2986, 4).
type Request struct {
	Raw, RawInfo       []byte
	Version            int
	Subject            Name
	PublicKey          PublicKey
	Attributes         []OID
	ChallengePassword  bool         // a challenge password is inside, readable by all
	Wanted             *Certificate // the extensions asked for; its other fields are empty
	SignatureAlgorithm SignatureAlgorithm
	Signature          []byte
	Anomalies          []Anomaly
}

// ParseRequest decodes one request. Whatever can be read past is an anomaly of
// the result; the error is a *MalformedError.
func ParseRequest(der []byte) (*Request, error) {
	const section = "RFC 2986 section 4"
	d := newDecoder(der)
	s := cryptobyte.String(d.base)
	outer, ok := d.take(&s, tagSequence, "certificationRequest")
	if !ok {
		return nil, broken(der)
	}
	d.finish(s, "certificationRequest")
	r := &Request{Raw: outer.full, Wanted: &Certificate{}}
	inner := cryptobyte.String(outer.content)
	info, ok := d.take(&inner, tagSequence, "certificationRequestInfo")
	if !ok {
		return nil, &MalformedError{d.offset(inner), "the part to be signed is missing or cut off"}
	}
	r.RawInfo = info.full
	if err := d.requestInfo(info, r); err != nil {
		return nil, err
	}
	if alg, ok := d.take(&inner, tagSequence, "signatureAlgorithm"); ok {
		r.SignatureAlgorithm = d.signatureAlgorithm(alg, "signatureAlgorithm")
	} else {
		return nil, &MalformedError{d.offset(inner), "the signature algorithm is missing"}
	}
	if sig, ok := d.take(&inner, tagBitString, "signature"); ok {
		r.Signature, _, _ = d.bitString(sig, "signature")
	} else {
		d.note(inner, "signature", section, "the signature is missing")
	}
	d.finish(inner, "certificationRequest")
	r.Anomalies = d.anomalies
	return r, nil
}

func (d *decoder) requestInfo(info element, r *Request) error {
	const section = "RFC 2986 section 4.1"
	s := cryptobyte.String(info.content)
	version, ok := d.take(&s, tagInteger, "version")
	if !ok {
		return &MalformedError{d.offset(s), "the version is missing"}
	}
	if r.Version, ok = d.smallInt(version, "version"); ok && r.Version != 0 {
		d.note(version.full, "version", section, "the version number is %d, only 0 is defined", r.Version)
	}
	subject, ok := d.take(&s, tagSequence, "subject")
	if !ok {
		return &MalformedError{d.offset(s), "the subject is missing or cut off"}
	}
	r.Subject = d.name(subject, "subject")
	key, ok := d.take(&s, tagSequence, "subjectPKInfo")
	if !ok {
		return &MalformedError{d.offset(s), "the public key is missing or cut off"}
	}
	r.PublicKey = d.publicKey(key)
	attributes, ok := d.optional(&s, contextTag(0, true), "attributes")
	if !ok {
		d.note(info.full, "attributes", section, "the attributes, which may be empty, are missing")
	} else {
		d.sequences(attributes.content, "attributes", section, func(el element) { d.requestAttribute(el, r) })
	}
	d.finish(s, "certificationRequestInfo")
	return nil
}

func (d *decoder) requestAttribute(el element, r *Request) {
	const field, section = "attributes", "RFC 2986 section 4.1"
	s := cryptobyte.String(el.content)
	kind, okKind := d.take(&s, tagOID, field)
	values, okValues := d.take(&s, tagSet, field)
	if !okKind || !okValues {
		d.note(el.full, field, section, "an attribute is malformed")
		return
	}
	id := d.oid(kind, field)
	r.Attributes = append(r.Attributes, id)
	switch id {
	case oidChallengePassword:
		r.ChallengePassword = true
	case oidExtensionRequest, oidExtensionRequestOld:
		inner := cryptobyte.String(values.content)
		if list, ok := d.take(&inner, tagSequence, field); ok {
			d.extensions(list.content, r.Wanted)
		} else {
			d.note(values.full, field, section, "the extensions asked for are malformed")
		}
	}
}

// CheckSignature verifies that the key in the request signed it. The error is
// nil, ErrBadSignature or ErrUnverifiable.
func (r *Request) CheckSignature() error {
	return verifySignature(r.SignatureAlgorithm, r.PublicKey, r.RawInfo, r.Signature)
}

// Label is what people call the request: its subject's short name, or its first alternative name.
func (r *Request) Label() string {
	if label := r.Subject.Label(); label != "" {
		return label
	}
	if names := r.Wanted.HostNames(); len(names) > 0 {
		return names[0]
	}
	return fmt.Sprintf("request for a %s key", r.PublicKey)
}
