package pki

import (
	"bytes"
	"crypto"
	"encoding/asn1"
	"fmt"
	"time"

	"golang.org/x/crypto/cryptobyte"
	basic "golang.org/x/crypto/cryptobyte/asn1"
)

const (
	oidOCSPBasic OID = "1.3.6.1.5.5.7.48.1.1"
	oidOCSPNonce OID = "1.3.6.1.5.5.7.48.1.2"
)

// OCSPStatus is what a responder says of the request as a whole (RFC 6960, 4.2.1).
type OCSPStatus int

// Statuses that make a difference: there is an answer inside, or there may be one later.
const (
	OCSPSuccessful    OCSPStatus = 0
	OCSPInternalError OCSPStatus = 2
	OCSPTryLater      OCSPStatus = 3
)

// Words says the status as people do.
func (s OCSPStatus) Words() string {
	words := map[OCSPStatus]string{0: "successful", 1: "malformed request", 2: "internal error", 3: "try later",
		5: "signature required", 6: "unauthorized"}
	if w, ok := words[s]; ok {
		return w
	}
	return fmt.Sprintf("status %d", int(s))
}

// CertificateStatus is what a responder says of one certificate.
type CertificateStatus string

// The statuses of RFC 6960, section 2.2.
const (
	StatusGood    CertificateStatus = "good"
	StatusRevoked CertificateStatus = "revoked"
	StatusUnknown CertificateStatus = "unknown"
)

// OCSPResponse is a decoded answer of a responder (RFC 6960, 4.2.1).
type OCSPResponse struct {
	Raw, RawTBS        []byte
	Status             OCSPStatus // the fields below are empty unless it is successful
	ResponderName      Name       // of the signer, or
	ResponderKey       []byte     // the SHA-1 of its key
	ProducedAt         time.Time
	Answers            []OCSPAnswer
	Nonce              []byte // nil when there is none
	Certificates       [][]byte
	SignatureAlgorithm SignatureAlgorithm
	Signature          []byte
	UnknownCritical    []OID
	Refused            string // what of its extensions could not be processed; "" when all could
	Anomalies          []Anomaly
}

// OCSPAnswer is the answer for one certificate.
type OCSPAnswer struct {
	Hash                crypto.Hash // 0 when it is not known here
	IssuerName          []byte      // hash of the issuer's name
	IssuerKey           []byte      // hash of the issuer's key
	Serial              []byte      // contents of the INTEGER
	Status              CertificateStatus
	RevokedAt           time.Time
	Reason              Reason
	ThisUpdate, Expires time.Time // the latter zero when newer answers are always to be had
	Timestamps          []Timestamp
}

// Concerns reports whether the answer is about the certificate.
func (a OCSPAnswer) Concerns(c, issuer *Certificate) bool {
	if a.Hash == 0 || !bytes.Equal(a.Serial, c.RawSerial) {
		return false
	}
	return bytes.Equal(a.IssuerName, sum(a.Hash, c.Issuer.Raw)) &&
		bytes.Equal(a.IssuerKey, sum(a.Hash, issuer.PublicKey.Bytes))
}

// CheckSignedBy verifies the answer's signature under the key, as Certificate.CheckSignedBy does.
func (r *OCSPResponse) CheckSignedBy(key PublicKey) error {
	return verifySignature(r.SignatureAlgorithm, key, r.RawTBS, r.Signature)
}

// SignedAs reports whether the response names this certificate as its signer.
func (r *OCSPResponse) SignedAs(c *Certificate) bool {
	if r.ResponderKey != nil {
		return bytes.Equal(r.ResponderKey, sum(crypto.SHA1, c.PublicKey.Bytes))
	}
	return r.ResponderName.Key() == c.Subject.Key()
}

// ParseOCSPResponse decodes a response. Whatever can be read past is an anomaly
// of the result; the error is a *MalformedError.
func ParseOCSPResponse(der []byte) (*OCSPResponse, error) {
	const field = "OCSPResponse"
	d := newDecoder(der)
	s := cryptobyte.String(d.base)
	outer, ok := d.take(&s, tagSequence, field)
	if !ok {
		return nil, broken(der)
	}
	d.finish(s, field)
	r := &OCSPResponse{Raw: outer.full}
	s = cryptobyte.String(outer.content)
	status, ok := d.take(&s, tagEnumerated, "responseStatus")
	if !ok || len(status.content) != 1 {
		return nil, &MalformedError{d.offset(s), "the status of the response is missing"}
	}
	r.Status = OCSPStatus(status.content[0])
	if r.Status != OCSPSuccessful {
		return r, nil
	}
	fail := func(reason string) (*OCSPResponse, error) { return nil, &MalformedError{d.offset(s), reason} }
	wrapped, ok := d.take(&s, contextTag(0, true), "responseBytes")
	if !ok {
		return fail("the response says that it is successful and holds no answer")
	}
	s = cryptobyte.String(wrapped.content)
	typed, ok := d.take(&s, tagSequence, "responseBytes")
	if !ok {
		return fail("the answer is malformed")
	}
	s = cryptobyte.String(typed.content)
	kind, ok := d.take(&s, tagOID, "responseType")
	if !ok || d.oid(kind, "responseType") != oidOCSPBasic {
		return fail("the answer is of no type that is known")
	}
	octets, ok := d.take(&s, tagOctetString, "response")
	if !ok {
		return fail("the answer is malformed")
	}
	s = cryptobyte.String(octets.content)
	if err := d.basicResponse(&s, r); err != nil {
		return nil, err
	}
	r.Anomalies = d.anomalies
	return r, nil
}

// basicResponse decodes a BasicOCSPResponse.
func (d *decoder) basicResponse(s *cryptobyte.String, r *OCSPResponse) error {
	const field = "BasicOCSPResponse"
	whole, ok := d.take(s, tagSequence, field)
	if !ok {
		return &MalformedError{d.offset(*s), "the answer is malformed"}
	}
	inner := cryptobyte.String(whole.content)
	tbs, ok := d.take(&inner, tagSequence, "tbsResponseData")
	if !ok {
		return &MalformedError{d.offset(inner), "the part to be signed is missing or cut off"}
	}
	r.RawTBS = tbs.full
	if err := d.responseData(tbs, r); err != nil {
		return err
	}
	alg, okAlg := d.take(&inner, tagSequence, "signatureAlgorithm")
	sig, okSig := d.take(&inner, tagBitString, "signature")
	if !okAlg || !okSig {
		return &MalformedError{d.offset(inner), "the signature is missing"}
	}
	r.SignatureAlgorithm = d.signatureAlgorithm(alg, "signatureAlgorithm")
	r.Signature, _, _ = d.bitString(sig, "signature")
	if list, ok := d.optional(&inner, contextTag(0, true), "certs"); ok {
		certificates := cryptobyte.String(list.content)
		if seq, ok := d.take(&certificates, tagSequence, "certs"); ok {
			d.sequences(seq.content, "certs", "RFC 6960 section 4.2.1",
				func(el element) { r.Certificates = append(r.Certificates, el.full) })
		}
	}
	return nil
}

// responseData decodes a ResponseData.
func (d *decoder) responseData(tbs element, r *OCSPResponse) error {
	s := cryptobyte.String(tbs.content)
	d.optional(&s, contextTag(0, true), "version")
	if name, ok := d.optional(&s, contextTag(1, true), "responderID"); ok {
		inner := cryptobyte.String(name.content)
		if el, ok := d.take(&inner, tagSequence, "responderID"); ok {
			r.ResponderName = d.name(el, "responderID")
		}
	} else if key, ok := d.optional(&s, contextTag(2, true), "responderID"); ok {
		inner := cryptobyte.String(key.content)
		if el, ok := d.take(&inner, tagOctetString, "responderID"); ok {
			r.ResponderKey = el.content
		}
	} else {
		return &MalformedError{d.offset(s), "the name of the responder is missing"}
	}
	produced, ok := d.take(&s, tagGeneralized, "producedAt")
	if !ok {
		return &MalformedError{d.offset(s), "the time of the response is missing"}
	}
	r.ProducedAt = d.statusTime(produced, "producedAt")
	list, ok := d.take(&s, tagSequence, "responses")
	if !ok {
		return &MalformedError{d.offset(s), "the list of answers is missing"}
	}
	d.sequences(list.content, "responses", "RFC 6960 section 4.2.1", func(el element) {
		if a, ok := d.ocspAnswer(el, r); ok {
			r.Answers = append(r.Answers, a)
		}
	})
	if el, ok := d.optional(&s, contextTag(1, true), "responseExtensions"); ok {
		r.refuse(d.eachExtension(el, "responseExtensions", func(x Extension) {
			if x.ID != oidOCSPNonce {
				r.unknown(x)
				return
			}
			r.Nonce = x.Value // some write it bare, RFC 9654 wants an OCTET STRING inside
			inner := cryptobyte.String(x.Value)
			if el, ok := d.take(&inner, tagOctetString, "nonce"); ok {
				r.Nonce = el.content
			}
		}))
	}
	return nil
}

func (r *OCSPResponse) refuse(reason string) { r.Refused = orElse(r.Refused, reason) }

func (r *OCSPResponse) unknown(x Extension) {
	if x.Critical {
		r.UnknownCritical = append(r.UnknownCritical, x.ID)
	}
}

// statusTime reads a time that is always a GeneralizedTime here, which certificates use after 2049 only.
func (d *decoder) statusTime(el element, field string) time.Time {
	quiet := decoder{base: d.base}
	at, ok := quiet.time(el, field)
	if !ok {
		d.note(el.full, field, "RFC 6960 section 4.2.1", "%q is no time", clip(string(el.content)))
	}
	return at
}

// ocspAnswer decodes a SingleResponse.
func (d *decoder) ocspAnswer(el element, r *OCSPResponse) (a OCSPAnswer, ok bool) {
	const field = "responses"
	defer func() {
		if !ok {
			d.note(el.full, field, "RFC 6960 section 4.2.1", "an answer is malformed")
		}
	}()
	s := cryptobyte.String(el.content)
	id, ok := d.take(&s, tagSequence, field)
	if !ok {
		return a, false
	}
	inner := cryptobyte.String(id.content)
	alg, okAlg := d.take(&inner, tagSequence, field)
	name, okName := d.take(&inner, tagOctetString, field)
	key, okKey := d.take(&inner, tagOctetString, field)
	serial, okSerial := d.take(&inner, tagInteger, field)
	if !okAlg || !okName || !okKey || !okSerial {
		return a, false
	}
	hash, _ := d.algorithm(alg, field)
	a = OCSPAnswer{Hash: hashesByOID[hash], IssuerName: name.content, IssuerKey: key.content, Serial: serial.content}
	status, ok := d.next(&s, field)
	if !ok {
		return a, false
	}
	switch status.tag {
	case contextTag(0, false):
		a.Status = StatusGood
	case contextTag(1, true):
		a.Status = StatusRevoked
		d.revokedInfo(status, &a)
	case contextTag(2, false):
		a.Status = StatusUnknown
	default:
		return a, false
	}
	this, ok := d.take(&s, tagGeneralized, field)
	if !ok {
		return a, false
	}
	a.ThisUpdate = d.statusTime(this, "thisUpdate")
	if next, ok := d.optional(&s, contextTag(0, true), field); ok {
		inner := cryptobyte.String(next.content)
		if at, ok := d.take(&inner, tagGeneralized, field); ok {
			a.Expires = d.statusTime(at, "nextUpdate")
		}
	}
	if list, ok := d.optional(&s, contextTag(1, true), field); ok {
		r.refuse(d.eachExtension(list, "singleExtensions", func(x Extension) {
			if x.ID == oidAnsweredTimestamps {
				a.Timestamps = parseTimestamps(x.Value)
				return
			}
			r.unknown(x)
		}))
	}
	return a, true
}

func (d *decoder) revokedInfo(el element, a *OCSPAnswer) {
	s := cryptobyte.String(el.content)
	if at, ok := d.take(&s, tagGeneralized, "revocationTime"); ok {
		a.RevokedAt = d.statusTime(at, "revocationTime")
	}
	if reason, ok := d.optional(&s, contextTag(0, true), "revocationReason"); ok {
		inner := cryptobyte.String(reason.content)
		if el, ok := d.take(&inner, tagEnumerated, "revocationReason"); ok && len(el.content) == 1 {
			a.Reason = Reason(el.content[0])
		}
	}
}

// OCSPRequest writes the request for one certificate (RFC 6960, 4.1.1), with
// SHA-1 hashes, which every responder knows, and the nonce where it is not empty (RFC 9654).
func OCSPRequest(c, issuer *Certificate, nonce []byte) []byte {
	sequence := func(b *cryptobyte.Builder, f func(*cryptobyte.Builder)) { b.AddASN1(basic.SEQUENCE, f) }
	var out cryptobyte.Builder
	sequence(&out, func(request *cryptobyte.Builder) {
		sequence(request, func(tbs *cryptobyte.Builder) {
			sequence(tbs, func(list *cryptobyte.Builder) {
				sequence(list, func(one *cryptobyte.Builder) {
					sequence(one, func(id *cryptobyte.Builder) {
						sequence(id, func(alg *cryptobyte.Builder) {
							alg.AddASN1ObjectIdentifier(asn1.ObjectIdentifier{1, 3, 14, 3, 2, 26})
							alg.AddASN1NULL()
						})
						id.AddASN1OctetString(sum(crypto.SHA1, c.Issuer.Raw))
						id.AddASN1OctetString(sum(crypto.SHA1, issuer.PublicKey.Bytes))
						id.AddASN1(basic.INTEGER, func(n *cryptobyte.Builder) { n.AddBytes(c.RawSerial) })
					})
				})
			})
			if len(nonce) == 0 {
				return
			}
			tbs.AddASN1(basic.Tag(2).ContextSpecific().Constructed(), func(x *cryptobyte.Builder) {
				sequence(x, func(list *cryptobyte.Builder) {
					sequence(list, func(one *cryptobyte.Builder) {
						one.AddASN1ObjectIdentifier(asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 48, 1, 2})
						var value cryptobyte.Builder
						value.AddASN1OctetString(nonce)
						one.AddASN1OctetString(value.BytesOrPanic())
					})
				})
			})
		})
	})
	return out.BytesOrPanic()
}
