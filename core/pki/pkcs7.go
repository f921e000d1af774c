package pki

import "golang.org/x/crypto/cryptobyte"

const oidSignedData OID = "1.2.840.113549.1.7.2"

// CertificateSet is what a PKCS#7 file carries of certificates and revocation
// lists (RFC 2315, 9.1, and RFC 5652, 5.1). Signers are not looked at.
type CertificateSet struct {
	Certificates    [][]byte // DER of each
	RevocationLists [][]byte
	Offsets         []int // of each certificate, in bytes
}

// ParseCertificateSet reads the certificates of a PKCS#7 SignedData, in DER.
// The error is a *MalformedError.
func ParseCertificateSet(der []byte) (*CertificateSet, error) {
	const field = "signedData"
	d := newDecoder(der)
	s := cryptobyte.String(d.base)
	outer, ok := d.take(&s, tagSequence, "contentInfo")
	if !ok {
		return nil, broken(der)
	}
	fail := func(at []byte, reason string) (*CertificateSet, error) {
		return nil, &MalformedError{d.offset(at), reason}
	}
	s = cryptobyte.String(outer.content)
	kind, ok := d.take(&s, tagOID, "contentType")
	if !ok {
		return fail(s, "the content type is missing")
	}
	if id := d.oid(kind, "contentType"); id != oidSignedData {
		return fail(kind.full,
			"the content is "+id.Words()+", not signed data; certificates are carried by signed data only")
	}
	explicit, ok := d.take(&s, contextTag(0, true), "content")
	if !ok {
		return fail(s, "the content is missing or cut off")
	}
	s = cryptobyte.String(explicit.content)
	body, ok := d.take(&s, tagSequence, field)
	if !ok {
		return fail(s, "the signed data is missing or cut off")
	}
	s = cryptobyte.String(body.content)
	for _, part := range []byte{tagInteger, tagSet, tagSequence} { // version, digest algorithms, content
		if _, ok := d.take(&s, part, field); !ok {
			return fail(s, "the signed data is malformed")
		}
	}
	set := &CertificateSet{}
	if list, ok := d.optional(&s, contextTag(0, true), "certificates"); ok {
		for inner := cryptobyte.String(list.content); len(inner) > 0; {
			el, ok := d.next(&inner, "certificates")
			if !ok {
				return set, &MalformedError{d.offset(inner), "a certificate of the set is cut off"}
			}
			if el.tag == tagSequence { // other choices are attribute certificates
				set.Certificates = append(set.Certificates, el.full)
				set.Offsets = append(set.Offsets, d.offset(el.full))
			}
		}
	}
	if list, ok := d.optional(&s, contextTag(1, true), "crls"); ok {
		for inner := cryptobyte.String(list.content); len(inner) > 0; {
			el, ok := d.take(&inner, tagSequence, "crls")
			if !ok {
				break
			}
			set.RevocationLists = append(set.RevocationLists, el.full)
		}
	}
	return set, nil
}
