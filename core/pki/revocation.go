package pki

import (
	"fmt"
	"math/big"
	"slices"
	"sync"
	"time"

	"golang.org/x/crypto/cryptobyte"
)

// Extensions of revocation lists and of their entries (RFC 5280, 5.2 and 5.3).
const (
	oidCRLNumber         OID = "2.5.29.20"
	oidReasonCode        OID = "2.5.29.21"
	oidInvalidityDate    OID = "2.5.29.24"
	oidDeltaIndicator    OID = "2.5.29.27"
	oidIssuingPoint      OID = "2.5.29.28"
	oidCertificateIssuer OID = "2.5.29.29"
	oidFreshestCRL       OID = "2.5.29.46"
)

// RevocationList is a decoded certificate revocation list (RFC 5280, 5.1).
type RevocationList struct {
	Raw, RawTBS        []byte
	Version            int
	Issuer             Name
	SignatureAlgorithm SignatureAlgorithm // of the part that is signed
	Signature          []byte
	ThisUpdate         time.Time
	NextUpdate         time.Time // zero when it is not given
	Revoked            []RevokedCertificate
	Number             *big.Int // nil when it is not given
	BaseNumber         *big.Int // of a delta list: the list that it adds to; nil for complete lists
	AuthorityKeyID     []byte
	Scope              *IssuingPoint // nil for a list of all certificates of its issuer
	Freshest           []DistributionPoint
	UnknownCritical    []OID // critical extensions, of the list or its entries, that are not processed
	// Refused says what of the list could not be processed: what is not in it may have been there. "" when all could.
	Refused   string
	Anomalies []Anomaly

	fingerprint Fingerprint
	bySerial    func() map[string][]int // places in Revoked
}

// Find returns the entries with the serial number, given as the contents of
// its INTEGER. The first call sorts the list, which others may be using meanwhile.
func (l *RevocationList) Find(serial []byte) []*RevokedCertificate {
	var out []*RevokedCertificate
	for _, i := range l.bySerial()[string(serial)] {
		out = append(out, &l.Revoked[i])
	}
	return out
}

// Fingerprint is the SHA-256 of the list's DER.
func (l *RevocationList) Fingerprint() Fingerprint { return l.fingerprint }

// RevokedCertificate is one entry of a list.
type RevokedCertificate struct {
	Serial []byte    // contents of the INTEGER
	At     time.Time // when it was revoked
	Reason Reason
	Issuer *Name // who issued it, where that is another than the list's issuer
}

// Reason is a reason of revocation (RFC 5280, 5.3.1).
type Reason int

// The reasons that make a difference here.
const (
	Unspecified   Reason = 0
	KeyCompromise Reason = 1
	OnHold        Reason = 6
	RemovedFrom   Reason = 8 // of a delta list: the certificate is no longer revoked
)

var reasonWords = []string{"no reason given", "the key is compromised", "the issuer is compromised",
	"the affiliation changed", "superseded",
	"cessation of operation", "on hold", "", "removed from the list", "the privilege was withdrawn",
	"the attribute issuer is compromised"}

// Words says the reason as people do.
func (r Reason) Words() string {
	if r < 0 || int(r) >= len(reasonWords) || reasonWords[r] == "" {
		return reasonWords[0]
	}
	return reasonWords[r]
}

// IssuingPoint is the scope of a list (RFC 5280, 5.2.5).
type IssuingPoint struct {
	Point                                      DistributionPoint // only its names are set
	OnlyUsers, OnlyAuthorities, OnlyAttributes bool
	Indirect                                   bool // it lists certificates of other issuers too
	Reasons                                    []byte
	Raw                                        []byte
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
	l := &RevocationList{Raw: outer.full, Version: 1, fingerprint: FingerprintOf(outer.full)}
	inner := cryptobyte.String(outer.content)
	tbs, ok := d.take(&inner, tagSequence, "tbsCertList")
	if !ok {
		return nil, &MalformedError{d.offset(inner), "the part to be signed is missing or cut off"}
	}
	l.RawTBS = tbs.full
	if err := d.list(tbs, l); err != nil {
		return nil, err
	}
	if alg, ok := d.take(&inner, tagSequence, "signatureAlgorithm"); !ok {
		d.note(inner, "signatureAlgorithm", "RFC 5280 section 5.1.1.2", "the signature algorithm is missing")
	} else if string(alg.full) != string(l.SignatureAlgorithm.Raw) {
		d.note(alg.full, "signatureAlgorithm", "RFC 5280 section 5.1.1.2",
			"the algorithm differs from the one inside the part that is signed")
	}
	if sig, ok := d.take(&inner, tagBitString, "signatureValue"); ok {
		l.Signature, _, _ = d.bitString(sig, "signatureValue")
	} else {
		d.note(inner, "signatureValue", "RFC 5280 section 5.1.1.3", "the signature is missing")
	}
	l.Anomalies = d.anomalies
	l.bySerial = sync.OnceValue(func() map[string][]int {
		places := make(map[string][]int, len(l.Revoked))
		for i, entry := range l.Revoked {
			places[string(entry.Serial)] = append(places[string(entry.Serial)], i)
		}
		return places
	})
	return l, nil
}

// CheckSignedBy verifies the list's signature under the key, as Certificate.CheckSignedBy does.
func (l *RevocationList) CheckSignedBy(key PublicKey) error {
	return verifySignature(l.SignatureAlgorithm, key, l.RawTBS, l.Signature)
}

// list decodes the TBSCertList (RFC 5280, 5.1.2).
func (d *decoder) list(tbs element, l *RevocationList) error {
	body := cryptobyte.String(tbs.content)
	if version, ok := d.optional(&body, tagInteger, "version"); ok {
		n, _ := d.smallInt(version, "version")
		l.Version = n + 1
	}
	alg, ok := d.take(&body, tagSequence, "signature")
	if !ok {
		return &MalformedError{d.offset(body), "the signature algorithm is missing"}
	}
	l.SignatureAlgorithm = d.signatureAlgorithm(alg, "signature")
	issuer, ok := d.take(&body, tagSequence, "issuer")
	if !ok {
		return &MalformedError{d.offset(body), "the issuer is missing or cut off"}
	}
	l.Issuer = d.name(issuer, "issuer")
	update, ok := d.next(&body, "thisUpdate")
	if !ok || update.tag != tagUTCTime && update.tag != tagGeneralized {
		return &MalformedError{d.offset(body), "the time of the list is missing"}
	}
	if l.ThisUpdate, ok = d.time(update, "thisUpdate"); !ok {
		l.refuse("its date cannot be read")
	}
	if len(body) > 0 && (body[0] == tagUTCTime || body[0] == tagGeneralized) {
		next, ok := d.next(&body, "nextUpdate")
		if ok {
			l.NextUpdate, ok = d.time(next, "nextUpdate")
		}
		if !ok {
			l.refuse("the date of the next one cannot be read")
		}
	}
	if revoked, ok := d.optional(&body, tagSequence, "revokedCertificates"); ok {
		var issuer *Name // holds for all entries after the one that names it (RFC 5280, 5.3.3)
		d.refused = ""
		d.sequences(revoked.content, "revokedCertificates", "RFC 5280 section 5.1.2.6", func(el element) {
			entry, ok := d.listEntry(el, l, issuer)
			if !ok {
				l.refuse("an entry is malformed")
				return
			}
			issuer = entry.Issuer
			l.Revoked = append(l.Revoked, entry)
		})
		l.refuse(d.refused)
	}
	if el, ok := d.optional(&body, contextTag(0, true), "crlExtensions"); ok {
		l.refuse(d.eachExtension(el, "crlExtensions", func(x Extension) { d.listExtension(x, l) }))
	}
	d.refused = ""
	d.finish(body, "tbsCertList")
	l.refuse(d.refused)
	return nil
}

// eachExtension opens [0] EXPLICIT Extensions or a plain sequence of them. It says why not all of them that are
// critical could be processed, "" where they could.
func (d *decoder) eachExtension(el element, field string, each func(Extension)) (refused string) {
	s := cryptobyte.String(el.content)
	content := el.content
	if el.tag != tagSequence {
		list, ok := d.take(&s, tagSequence, field)
		if !ok {
			d.note(el.full, field, "RFC 5280 section 5.2", "the extensions are malformed")
			return "the extensions are malformed"
		}
		content = list.content
	}
	seen := map[OID]bool{}
	d.refused = ""
	d.sequences(content, field, "RFC 5280 section 5.2", func(el element) {
		d.refused = ""
		x, ok := d.extension(el)
		if ok {
			each(x)
		}
		switch {
		case refused != "":
		case !ok:
			refused = "an extension is malformed"
		case d.refused != "" && x.Critical:
			refused = fmt.Sprintf("the extension %s cannot be processed: %s", x.ID.Words(), d.refused)
		case seen[x.ID]:
			refused = fmt.Sprintf("the extension %s is there more than once", x.ID.Words())
		}
		seen[x.ID] = true
		d.refused = ""
	})
	return orElse(refused, d.refused) // of a list that ends in the midst
}

func (d *decoder) listEntry(el element, l *RevocationList, issuer *Name) (RevokedCertificate, bool) {
	const field, section = "revokedCertificates", "RFC 5280 section 5.1.2.6"
	entry := RevokedCertificate{Issuer: issuer}
	s := cryptobyte.String(el.content)
	serial, okSerial := d.take(&s, tagInteger, field)
	at, okAt := d.next(&s, field)
	if !okSerial || !okAt {
		d.note(el.full, field, section, "an entry is malformed")
		return entry, false
	}
	entry.Serial = serial.content
	entry.At, _ = d.time(at, field)
	if list, ok := d.optional(&s, tagSequence, field); ok {
		l.refuse(d.eachExtension(list, "crlEntryExtensions", func(x Extension) { d.entryExtension(x, &entry, l) }))
	}
	return entry, true
}

func (d *decoder) entryExtension(x Extension, entry *RevokedCertificate, l *RevocationList) {
	const field = "crlEntryExtensions"
	s := cryptobyte.String(x.Value)
	switch x.ID {
	case oidReasonCode:
		if el, ok := d.take(&s, tagEnumerated, field); ok && len(el.content) == 1 {
			entry.Reason = Reason(el.content[0])
		} else {
			d.refuse(x.Value, field, "RFC 5280 section 5.3.1", "the reason is malformed")
		}
	case oidCertificateIssuer:
		if body, ok := d.body(x, field); ok {
			for _, g := range d.generalNames(body, field, false) {
				if g.Kind == NameDirectory {
					entry.Issuer = &g.Directory
				}
			}
		}
	case oidInvalidityDate:
	default:
		l.unknown(x)
	}
}

func (l *RevocationList) refuse(reason string) { l.Refused = orElse(l.Refused, reason) }

func (l *RevocationList) unknown(x Extension) {
	if x.Critical && !slices.Contains(l.UnknownCritical, x.ID) {
		l.UnknownCritical = append(l.UnknownCritical, x.ID)
	}
}

func (d *decoder) listExtension(x Extension, l *RevocationList) {
	const field = "crlExtensions"
	number := func() *big.Int {
		s := cryptobyte.String(x.Value)
		if el, ok := d.take(&s, tagInteger, field); ok {
			return d.integer(el, field)
		}
		d.refuse(x.Value, field, "RFC 5280 section 5.2", "the extension %s is no number", x.ID.Words())
		return nil
	}
	switch x.ID {
	case oidCRLNumber:
		l.Number = number()
	case oidDeltaIndicator:
		if l.BaseNumber = number(); l.BaseNumber == nil { // it is a delta list all the same
			l.BaseNumber = new(big.Int)
		}
	case oidAuthorityKeyID:
		var c Certificate
		d.authorityKeyID(x, &c)
		l.AuthorityKeyID = c.AuthorityKeyID
	case oidIssuingPoint:
		l.Scope = d.issuingPoint(x)
	case oidFreshestCRL:
		l.Freshest = d.pointsOf(x, "freshestCRL")
	case oidAuthorityInfo, oidIssuerAltName:
	default:
		l.unknown(x)
	}
}

func (d *decoder) issuingPoint(x Extension) *IssuingPoint {
	const field = "issuingDistributionPoint"
	p := &IssuingPoint{Raw: x.Value}
	body, ok := d.body(x, field)
	if !ok {
		return p
	}
	s := cryptobyte.String(body)
	if name, ok := d.optional(&s, contextTag(0, true), field); ok {
		d.pointName(name, field, &p.Point)
	}
	flag := func(number byte) bool {
		el, ok := d.optional(&s, contextTag(number, false), field)
		return ok && d.boolean(el, field)
	}
	p.OnlyUsers, p.OnlyAuthorities = flag(1), flag(2)
	if reasons, ok := d.optional(&s, contextTag(3, false), field); ok {
		p.Reasons = reasons.content
	}
	p.Indirect, p.OnlyAttributes = flag(4), flag(5)
	d.finish(s, field)
	return p
}
