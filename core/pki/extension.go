package pki

import (
	"golang.org/x/crypto/cryptobyte"
)

// Extension is one extension as encoded (RFC 5280, 4.1).
type Extension struct {
	ID       OID
	Critical bool
	Value    []byte // the contents of extnValue
	Offset   int    // of the extension, in bytes from the start of the certificate
}

// BasicConstraints says whether the subject is an authority (RFC 5280, 4.2.1.9).
type BasicConstraints struct {
	CA         bool
	PathLength *int // most intermediates that may follow, nil for no limit
}

// KeyUsage is the set of bits of RFC 5280, section 4.2.1.3.
type KeyUsage uint16

// The key usages in the order of their bits.
const (
	UsageDigitalSignature KeyUsage = 1 << iota
	UsageContentCommitment
	UsageKeyEncipherment
	UsageDataEncipherment
	UsageKeyAgreement
	UsageCertificateSigning
	UsageRevocationSigning
	UsageEncipherOnly
	UsageDecipherOnly
)

var keyUsageWords = []string{"digital signature", "content commitment", "key encipherment", "data encipherment",
	"key agreement",
	"certificate signing", "CRL signing", "encipher only", "decipher only"}

// Words names the usages that are set.
func (u KeyUsage) Words() []string {
	var out []string
	for i, w := range keyUsageWords {
		if u&(1<<i) != 0 {
			out = append(out, w)
		}
	}
	return out
}

// AccessDescription is one entry of authority information access (RFC 5280, 4.2.2.1).
type AccessDescription struct {
	Method   OID
	Location GeneralName
}

// DistributionPoint is one place of a revocation list (RFC 5280, 4.2.1.13).
type DistributionPoint struct {
	FullName []GeneralName
	Relative []Attribute // nameRelativeToCRLIssuer: what follows the list issuer's name
	Reasons  []byte      // contents of the BIT STRING; nil for all reasons
	Issuer   []GeneralName
}

// NameConstraints are the subtrees of RFC 5280, section 4.2.1.10.
type NameConstraints struct {
	Permitted, Excluded []GeneralName
	// Barred are the kinds of names of which a subtree cannot be processed, with the reason: all such names count as
	// excluded. The kind "" stands for every kind.
	Barred map[NameKind]string
}

// Bars says why every name of the kind counts as excluded, "" where none does for that.
func (n *NameConstraints) Bars(kind NameKind) string {
	return orElse(n.Barred[kind], n.Barred[""])
}

func (n *NameConstraints) bar(kind NameKind, reason string) {
	if n.Barred == nil {
		n.Barred = map[NameKind]string{}
	}
	n.Barred[kind] = orElse(n.Barred[kind], reason)
}

// Unprocessed is an extension that could not be decoded, or holds what cannot be processed. A path with a critical one
// is not valid, like one with an unknown critical one (RFC 5280, 4.2); nor is one with an extension that stands twice.
type Unprocessed struct {
	ID       OID // "" where not even that is known
	Critical bool
	Reason   string
}

func orElse(text, instead string) string {
	if text != "" {
		return text
	}
	return instead
}

// extensions decodes the list of extensions and then each that is known.
func (d *decoder) extensions(content []byte, c *Certificate) {
	const field, section = "extensions", "RFC 5280 section 4.2"
	s := cryptobyte.String(content)
	seen := map[OID]bool{}
	for len(s) > 0 {
		el, ok := d.take(&s, tagSequence, field)
		if !ok {
			d.note(s, field, section, "an extension is malformed; the extensions after it are not read")
			c.Unprocessed = append(c.Unprocessed, Unprocessed{Critical: true,
				Reason: "an extension is malformed, and those after it are not known"})
			return
		}
		d.refused = ""
		x, ok := d.extension(el)
		if !ok || d.refused != "" {
			c.Unprocessed = append(c.Unprocessed, Unprocessed{x.ID, x.Critical || !ok,
				orElse(d.refused, "an extension is malformed")})
		}
		if !ok {
			continue
		}
		c.Extensions = append(c.Extensions, x)
		if seen[x.ID] {
			d.note(el.full, field, section, "the extension %s is there more than once; the first counts", x.ID.Words())
			c.Unprocessed = append(c.Unprocessed, Unprocessed{x.ID, true, "it is there more than once"})
			continue
		}
		seen[x.ID] = true
		if decode, known := extensionDecoders[x.ID]; known {
			d.refused = ""
			if decode(d, x, c); d.refused != "" {
				c.Unprocessed = append(c.Unprocessed, Unprocessed{x.ID, x.Critical, d.refused})
			}
		}
	}
	if len(c.Extensions) == 0 {
		d.note(content, field, section, "the list of extensions is empty")
	}
}

func (d *decoder) extension(el element) (Extension, bool) {
	const field, section = "extensions", "RFC 5280 section 4.1"
	x := Extension{Offset: d.offset(el.full)}
	s := cryptobyte.String(el.content)
	id, ok := d.take(&s, tagOID, field)
	if !ok {
		d.note(el.full, field, section, "an extension has no identifier")
		return x, false
	}
	x.ID = d.oid(id, field)
	if critical, ok := d.optional(&s, tagBoolean, field); ok {
		x.Critical = d.boolean(critical, field)
		if !x.Critical {
			d.note(critical.full, field, "X.690 section 11.5", "the default value of critical is written out")
		}
	}
	value, ok := d.take(&s, tagOctetString, field)
	if !ok {
		d.note(el.full, field, section, "the extension %s has no value", x.ID.Words())
		return x, false
	}
	d.finish(s, field)
	x.Value = value.content
	return x, true
}

// extensionDecoders are the standard extensions that are decoded; others stay raw.
// Each notes what is wrong and leaves its part of the certificate empty.
var extensionDecoders = map[OID]func(*decoder, Extension, *Certificate){
	oidSubjectAltName: func(d *decoder, x Extension, c *Certificate) {
		if body, ok := d.body(x, "subjectAltName"); ok {
			c.AltNames = d.generalNames(body, "subjectAltName", false)
			if len(c.AltNames) == 0 {
				d.note(x.Value, "subjectAltName", sectionSAN, "the extension lists no name")
			}
		}
	},
	oidIssuerAltName: func(d *decoder, x Extension, c *Certificate) {
		if body, ok := d.body(x, "issuerAltName"); ok {
			c.IssuerAltNames = d.generalNames(body, "issuerAltName", false)
		}
	},
	oidBasicConstraints: (*decoder).basicConstraints,
	oidKeyUsage:         (*decoder).keyUsage,
	oidExtKeyUsage: func(d *decoder, x Extension, c *Certificate) {
		c.ExtKeyUsage = d.identifiers(x, "extKeyUsage")
		c.HasExtKeyUsage = true
	},
	oidSubjectKeyID: func(d *decoder, x Extension, c *Certificate) {
		s := cryptobyte.String(x.Value)
		el, ok := d.take(&s, tagOctetString, "subjectKeyIdentifier")
		if !ok {
			d.refuse(x.Value, "subjectKeyIdentifier", "RFC 5280 section 4.2.1.2", "the key identifier is malformed")
			return
		}
		d.finish(s, "subjectKeyIdentifier")
		c.SubjectKeyID = el.content
	},
	oidAuthorityKeyID:  (*decoder).authorityKeyID,
	oidAuthorityInfo:   (*decoder).authorityInfo,
	oidCRLDistribution: (*decoder).distributionPoints,
	oidFreshestCRL: func(d *decoder, x Extension,
		c *Certificate) {
		c.FreshestCRL = d.pointsOf(x, "freshestCRL")
	},
	oidFeatures:          (*decoder).features,
	oidNoRevocation:      func(_ *decoder, _ Extension, c *Certificate) { c.NoRevocation = true },
	oidOCSPNoCheck:       func(_ *decoder, _ Extension, c *Certificate) { c.NoRevocationCheck = true },
	oidPolicies:          (*decoder).policies,
	oidPolicyMappings:    (*decoder).policyMappings,
	oidPolicyConstraints: (*decoder).policyConstraints,
	oidInhibitAnyPolicy:  (*decoder).inhibitAnyPolicy,
	oidNameConstraints:   (*decoder).nameConstraints,
}

// sequences hands each SEQUENCE of a list to the function, and notes where the list breaks.
func (d *decoder) sequences(content []byte, field, section string, each func(element)) {
	for s := cryptobyte.String(content); len(s) > 0; {
		el, ok := d.take(&s, tagSequence, field)
		if !ok {
			d.refuse(s, field, section, "an entry is malformed; those after it are not read")
			return
		}
		each(el)
	}
}

// body opens the SEQUENCE that most extensions are.
func (d *decoder) body(x Extension, field string) ([]byte, bool) {
	s := cryptobyte.String(x.Value)
	el, ok := d.take(&s, tagSequence, field)
	if !ok {
		d.refuse(x.Value, field, "RFC 5280 section 4.2", "the extension is malformed")
		return nil, false
	}
	d.finish(s, field)
	return el.content, true
}

func (d *decoder) identifiers(x Extension, field string) []OID {
	body, ok := d.body(x, field)
	if !ok {
		return nil
	}
	var out []OID
	for s := cryptobyte.String(body); len(s) > 0; {
		el, ok := d.take(&s, tagOID, field)
		if !ok {
			d.refuse(s, field, "RFC 5280 section 4.2",
				"an entry is no object identifier; the entries after it are not read")
			break
		}
		out = append(out, d.oid(el, field))
	}
	return out
}

func (d *decoder) basicConstraints(x Extension, c *Certificate) {
	const field = "basicConstraints"
	body, ok := d.body(x, field)
	if !ok {
		return
	}
	b := &BasicConstraints{}
	s := cryptobyte.String(body)
	if el, ok := d.optional(&s, tagBoolean, field); ok {
		b.CA = d.boolean(el, field)
		if !b.CA {
			d.note(el.full, field, "X.690 section 11.5", "the default value of cA is written out")
		}
	}
	if el, ok := d.optional(&s, tagInteger, field); ok {
		if n, ok := d.smallInt(el, field); ok {
			b.PathLength = &n
		}
		if !b.CA {
			d.note(el.full, field, "RFC 5280 section 4.2.1.9", "a path length is given for a subject that is no CA")
		}
	}
	d.finish(s, field)
	c.BasicConstraints = b
}

func (d *decoder) keyUsage(x Extension, c *Certificate) {
	const field = "keyUsage"
	s := cryptobyte.String(x.Value)
	el, ok := d.take(&s, tagBitString, field)
	if !ok {
		d.refuse(x.Value, field, "RFC 5280 section 4.2.1.3", "the key usage is malformed")
		return
	}
	d.finish(s, field)
	bits, count, ok := d.bitString(el, field)
	if !ok {
		return
	}
	for i := range min(count, len(keyUsageWords)) {
		if bits[i/8]&(0x80>>(i%8)) != 0 {
			c.KeyUsage |= 1 << i
		}
	}
	c.HasKeyUsage = true
	if c.KeyUsage == 0 {
		d.note(el.full, field, "RFC 5280 section 4.2.1.3", "no usage is set")
	}
}

func (d *decoder) authorityInfo(x Extension, c *Certificate) {
	const field, section = "authorityInfoAccess", "RFC 5280 section 4.2.2.1"
	body, ok := d.body(x, field)
	if !ok {
		return
	}
	d.sequences(body, field, section, func(el element) {
		inner := cryptobyte.String(el.content)
		method, okMethod := d.take(&inner, tagOID, field)
		place, okPlace := d.next(&inner, field)
		if !okMethod || !okPlace {
			d.refuse(el.full, field, section, "an entry is malformed")
			return
		}
		d.finish(inner, field)
		if g, ok := d.generalName(place, field, false); ok {
			c.AuthorityInfo = append(c.AuthorityInfo, AccessDescription{Method: d.oid(method, field), Location: g})
		}
	})
}

func (d *decoder) distributionPoints(x Extension, c *Certificate) {
	c.CRLDistributionPoints = d.pointsOf(x, "cRLDistributionPoints")
}

func (d *decoder) pointsOf(x Extension, field string) (out []DistributionPoint) {
	if body, ok := d.body(x, field); ok {
		d.sequences(body, field, "RFC 5280 section 4.2.1.13",
			func(el element) { out = append(out, d.distributionPoint(el, field)) })
	}
	return out
}

// pointName decodes the choice of names of a distribution point.
func (d *decoder) pointName(el element, field string, point *DistributionPoint) {
	choice := cryptobyte.String(el.content)
	if full, ok := d.optional(&choice, contextTag(0, true), field); ok {
		point.FullName = d.generalNames(full.content, field, false)
	} else if relative, ok := d.optional(&choice, contextTag(1, true), field); ok {
		point.Relative = d.relativeName(relative.content, field)
	}
	d.finish(choice, field)
}

func (d *decoder) distributionPoint(el element, field string) DistributionPoint {
	var point DistributionPoint
	inner := cryptobyte.String(el.content)
	if name, ok := d.optional(&inner, contextTag(0, true), field); ok {
		d.pointName(name, field, &point)
	}
	if reasons, ok := d.optional(&inner, contextTag(1, false), field); ok {
		point.Reasons = reasons.content
	}
	if issuer, ok := d.optional(&inner, contextTag(2, true), field); ok {
		point.Issuer = d.generalNames(issuer.content, field, false)
	}
	d.finish(inner, field)
	return point
}

// policies reads the identifiers; qualifiers stay in the raw extension.
func (d *decoder) policies(x Extension, c *Certificate) {
	const field, section = "certificatePolicies", "RFC 5280 section 4.2.1.4"
	body, ok := d.body(x, field)
	if !ok {
		return
	}
	c.HasPolicies = true
	seen := map[OID]bool{}
	d.sequences(body, field, section, func(el element) {
		inner := cryptobyte.String(el.content)
		id, ok := d.take(&inner, tagOID, field)
		if !ok {
			d.refuse(el.full, field, section, "a policy has no identifier")
			return
		}
		policy := d.oid(id, field)
		if seen[policy] {
			d.note(el.full, field, section, "the policy %s is listed more than once", policy)
		}
		seen[policy] = true
		c.Policies = append(c.Policies, policy)
	})
}
