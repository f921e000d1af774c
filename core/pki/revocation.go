package pki

import (
	"math/big"
	"time"

	"golang.org/x/crypto/cryptobyte"
)

const oidCRLNumber OID = "2.5.29.20"

// RevocationList is a decoded certificate revocation list (RFC 5280, 5.1).
type RevocationList struct {
	Raw                []byte
	Version            int
	Issuer             Name
	SignatureAlgorithm SignatureAlgorithm
	ThisUpdate         time.Time
	NextUpdate         time.Time // zero when it is not given
	Entries            int       // how many certificates are listed
	Number             *big.Int  // nil when it is not given
	Anomalies          []Anomaly
}

// ParseRevocationList decodes one list. Whatever can be read past is an
// anomaly of the result; the error is a *MalformedError.
func ParseRevocationList(der []byte) (*RevocationList, error) {
	d := newDecoder(der)
	s := cryptobyte.String(d.base)
	outer, ok := d.take(&s, tagSequence, "certificateList")
	if !ok {
		return nil, broken(der)
	}
	d.finish(s, "certificateList")
	l := &RevocationList{Raw: outer.full, Version: 1}
	inner := cryptobyte.String(outer.content)
	tbs, ok := d.take(&inner, tagSequence, "tbsCertList")
	if !ok {
		return nil, &MalformedError{d.offset(inner), "the part to be signed is missing or cut off"}
	}
	body := cryptobyte.String(tbs.content)
	if version, ok := d.optional(&body, tagInteger, "version"); ok {
		n, _ := d.smallInt(version, "version")
		l.Version = n + 1
	}
	alg, ok := d.take(&body, tagSequence, "signature")
	if !ok {
		return nil, &MalformedError{d.offset(body), "the signature algorithm is missing"}
	}
	l.SignatureAlgorithm = d.signatureAlgorithm(alg, "signature")
	issuer, ok := d.take(&body, tagSequence, "issuer")
	if !ok {
		return nil, &MalformedError{d.offset(body), "the issuer is missing or cut off"}
	}
	l.Issuer = d.name(issuer, "issuer")
	update, ok := d.next(&body, "thisUpdate")
	if !ok || update.tag != tagUTCTime && update.tag != tagGeneralized {
		return nil, &MalformedError{d.offset(body), "the time of the list is missing"}
	}
	l.ThisUpdate, _ = d.time(update, "thisUpdate")
	if len(body) > 0 && (body[0] == tagUTCTime || body[0] == tagGeneralized) {
		next, _ := d.next(&body, "nextUpdate")
		l.NextUpdate, _ = d.time(next, "nextUpdate")
	}
	if revoked, ok := d.optional(&body, tagSequence, "revokedCertificates"); ok {
		d.sequences(revoked.content, "revokedCertificates", "RFC 5280 section 5.1.2.6", func(element) { l.Entries++ })
	}
	if el, ok := d.optional(&body, contextTag(0, true), "crlExtensions"); ok {
		d.listExtensions(el, l)
	}
	d.finish(body, "tbsCertList")
	l.Anomalies = d.anomalies
	return l, nil
}

func (d *decoder) listExtensions(el element, l *RevocationList) {
	const field = "crlExtensions"
	s := cryptobyte.String(el.content)
	list, ok := d.take(&s, tagSequence, field)
	if !ok {
		d.note(el.full, field, "RFC 5280 section 5.2", "the extensions are malformed")
		return
	}
	d.sequences(list.content, field, "RFC 5280 section 5.2", func(el element) {
		x, ok := d.extension(el)
		if !ok || x.ID != oidCRLNumber {
			return
		}
		value := cryptobyte.String(x.Value)
		if number, ok := d.take(&value, tagInteger, field); ok {
			l.Number = d.integer(number, field)
		}
	})
}
