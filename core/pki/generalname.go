package pki

import (
	"fmt"
	"net/netip"
	"strings"

	"golang.org/x/crypto/cryptobyte"
	"golang.org/x/crypto/cryptobyte/asn1"
)

// NameKind tells the alternatives of a GeneralName apart (RFC 5280, 4.2.1.6).
type NameKind string

// The alternatives of a GeneralName.
const (
	NameOther      NameKind = "other"
	NameEmail      NameKind = "email"
	NameDNS        NameKind = "dns"
	NameX400       NameKind = "x400"
	NameDirectory  NameKind = "directory"
	NameEDIParty   NameKind = "edi"
	NameURI        NameKind = "uri"
	NameIP         NameKind = "ip"
	NameRegistered NameKind = "registered"
)

// generalKinds is indexed by the context tag number.
var generalKinds = []NameKind{NameOther, NameEmail, NameDNS, NameX400, NameDirectory, NameEDIParty, NameURI, NameIP,
	NameRegistered}

// GeneralName is one entry of an alternative-name extension or of a constraint.
type GeneralName struct {
	Kind      NameKind
	Value     string       // text form; for kinds without one, their DER in hexadecimal
	Address   netip.Addr   // of NameIP in a certificate
	Network   netip.Prefix // of NameIP in a name constraint
	Directory Name         // of NameDirectory
	Service   string       // of NameOther: the service and domain of an SRV-ID (RFC 4985), such as _xmpp-client.example
	Raw       []byte       // the contents as encoded
}

// String returns the entry with its kind in front.
func (g GeneralName) String() string { return string(g.Kind) + ":" + g.Value }

const sectionSAN = "RFC 5280 section 4.2.1.6"

// generalNames decodes a SEQUENCE OF GeneralName's contents.
func (d *decoder) generalNames(content []byte, field string, constraint bool) []GeneralName {
	var names []GeneralName
	s := cryptobyte.String(content)
	for len(s) > 0 {
		el, ok := d.next(&s, field)
		if !ok {
			d.refuse(s, field, sectionSAN, "an entry is malformed; the entries after it are not read")
			break
		}
		if g, ok := d.generalName(el, field, constraint); ok {
			names = append(names, g)
		}
	}
	return names
}

func (d *decoder) generalName(el element, field string, constraint bool) (GeneralName, bool) {
	number := int(el.tag & 0x1f)
	if el.tag&0xc0 != classContext || number >= len(generalKinds) {
		d.refuse(el.full, field, sectionSAN, "tag %#02x is no kind of name", el.tag)
		return GeneralName{}, false
	}
	g := GeneralName{Kind: generalKinds[number], Raw: el.content}
	switch g.Kind {
	case NameEmail, NameDNS, NameURI:
		g.Value = d.text(element{tag: tagIA5, full: el.full, content: el.content}, field)
		if g.Value == "" && !constraint {
			d.note(el.full, field, sectionSAN, "an entry of kind %s is empty", g.Kind)
		}
	case NameIP:
		d.addressName(&g, el, field, constraint)
	case NameDirectory:
		s := cryptobyte.String(el.content)
		if inner, ok := d.take(&s, tagSequence, field); ok {
			g.Directory = d.name(inner, field)
			g.Value = g.Directory.String()
		} else {
			d.refuse(el.full, field, sectionSAN, "the directory name is malformed")
		}
	case NameRegistered:
		g.Value = string(d.oid(el, field))
	default:
		g.Value = fmt.Sprintf("%x", el.content)
		if g.Service = serviceName(el.content); g.Service != "" {
			g.Value = "SRV " + g.Service
		}
	}
	return g, true
}

// serviceName is the text of an otherName that is an SRV-ID (RFC 4985, 2); "" for any other.
func serviceName(content []byte) string {
	const id = "\x06\x08\x2b\x06\x01\x05\x05\x07\x08\x07" // 1.3.6.1.5.5.7.8.7
	rest, is := strings.CutPrefix(string(content), id)
	s := cryptobyte.String(rest)
	var wrapped, text cryptobyte.String
	if !is || !s.ReadASN1(&wrapped, asn1.Tag(0).ContextSpecific().Constructed()) || !s.Empty() ||
		!wrapped.ReadASN1(&text, asn1.Tag(tagIA5)) ||
		!wrapped.Empty() || strings.ContainsFunc(string(text), func(r rune) bool { return r <= ' ' || r > '~' }) {
		return ""
	}
	return string(text)
}

// addressName decodes an address of 4 or 16 bytes, or, in a constraint, address and mask.
func (d *decoder) addressName(g *GeneralName, el element, field string, constraint bool) {
	c := el.content
	g.Value = fmt.Sprintf("%x", c)
	if !constraint {
		address, ok := netip.AddrFromSlice(c)
		if !ok {
			d.refuse(el.full, field, sectionSAN, "an address has %d bytes instead of 4 or 16", len(c))
			return
		}
		g.Address, g.Value = address, address.String()
		return
	}
	address, ok := netip.AddrFromSlice(c[:len(c)/2])
	if !ok || len(c)%2 != 0 {
		d.refuse(el.full, field, "RFC 5280 section 4.2.1.10", "an address range has %d bytes instead of 8 or 32",
			len(c))
		return
	}
	ones, mask := 0, c[len(c)/2:]
	for ones < len(mask)*8 && mask[ones/8]&(0x80>>(ones%8)) != 0 {
		ones++
	}
	for i := ones; i < len(mask)*8; i++ {
		if mask[i/8]&(0x80>>(i%8)) != 0 {
			d.refuse(el.full, field, "RFC 4632 section 3.1", "the mask of an address range has gaps")
			return
		}
	}
	g.Network = netip.PrefixFrom(address, ones)
	g.Value = g.Network.String()
}

// DNSNames returns the dNSName entries of the alternative names, as written.
func (c *Certificate) DNSNames() []string { return c.namesOf(NameDNS) }

func (c *Certificate) namesOf(kind NameKind) []string {
	var out []string
	for _, g := range c.AltNames {
		if g.Kind == kind {
			out = append(out, g.Value)
		}
	}
	return out
}

// HostNames returns the host names and addresses of the alternative names, in
// their order and fit to be shown.
func (c *Certificate) HostNames() []string {
	var out []string
	for _, g := range c.AltNames {
		if g.Kind == NameDNS || g.Kind == NameIP {
			out = append(out, Printable(g.Value))
		}
	}
	return out
}
