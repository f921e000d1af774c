package pki

import (
	"fmt"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"

	"golang.org/x/crypto/cryptobyte"
)

// Attribute is one attribute of a distinguished name.
type Attribute struct {
	Type  OID
	Value string // decoded to UTF-8
}

// Name is a distinguished name (RFC 5280, 4.1.2.4).
type Name struct {
	Raw        []byte        // its DER, for comparison and evidence
	Components [][]Attribute // relative names in the order of the encoding

	key string // of Key, made once because searching compares names all the time
}

// attributeWords are the short names of RFC 4514, section 3, and RFC 5280, appendix A.
var attributeWords = map[OID]string{
	"2.5.4.3": "CN", "2.5.4.4": "SN", "2.5.4.5": "serialNumber", "2.5.4.6": "C", "2.5.4.7": "L", "2.5.4.8": "ST",
	"2.5.4.9": "street", "2.5.4.10": "O", "2.5.4.11": "OU", "2.5.4.12": "title", "2.5.4.15": "businessCategory",
	"2.5.4.17": "postalCode", "2.5.4.42": "GN", "2.5.4.46": "dnQualifier", "2.5.4.97": "organizationIdentifier",
	"0.9.2342.19200300.100.1.25": "DC", "0.9.2342.19200300.100.1.1": "UID", "1.2.840.113549.1.9.1": "emailAddress",
}

// First returns the first value of the attribute, "" when the name has none.
func (n Name) First(attribute OID) string {
	for _, component := range n.Components {
		for _, a := range component {
			if a.Type == attribute {
				return a.Value
			}
		}
	}
	return ""
}

// CommonName is for people only: RFC 9525 gives it no meaning for host names.
func (n Name) CommonName() string { return n.First("2.5.4.3") }

// Label is what people call the owner of the name: the common name, else the
// organisational unit, the organisation or the whole name. It is fit to be shown.
func (n Name) Label() string {
	for _, attribute := range []OID{"2.5.4.3", "2.5.4.11", "2.5.4.10"} {
		if v := n.First(attribute); v != "" {
			return Printable(v)
		}
	}
	return n.String()
}

// Empty reports whether the name has no component.
func (n Name) Empty() bool { return len(n.Components) == 0 }

// String writes the name as RFC 4514 does, but in the order of the encoding,
// which is the one that people know.
func (n Name) String() string {
	var out strings.Builder
	for i, component := range n.Components {
		if i > 0 {
			out.WriteString(", ")
		}
		for j, a := range component {
			if j > 0 {
				out.WriteString(" + ")
			}
			key, ok := attributeWords[a.Type]
			if !ok {
				key = string(a.Type)
			}
			out.WriteString(key + "=" + escapeAttribute(a.Value))
		}
	}
	return out.String()
}

func escapeAttribute(value string) string {
	var out strings.Builder
	for _, r := range value {
		switch {
		case strings.ContainsRune(`,+"\<>;=`, r):
			out.WriteString(`\` + string(r))
		case unicode.IsControl(r) || unicode.Is(unicode.Cf, r):
			fmt.Fprintf(&out, `\%X`, string(r)) // the bytes of its UTF-8 (RFC 4514, 2.4)
		default:
			out.WriteRune(r)
		}
	}
	return out.String()
}

// Key is a form of the name under which equal names are equal, following the
// spirit of RFC 5280, section 7.1: case and runs of spaces do not count.
func (n Name) Key() string {
	if n.key != "" {
		return n.key
	}
	out := make([]byte, 0, 96)
	for _, component := range n.Components {
		out = append(out, '/')
		for _, a := range component {
			value := strings.ToLower(a.Value)
			if strings.Contains(value, "  ") || strings.TrimSpace(value) != value ||
				strings.ContainsAny(value, "\t\r\n") {
				value = strings.Join(strings.Fields(value), " ")
			}
			// The length in front keeps one name from looking like two.
			out = strconv.AppendInt(append(append(out, a.Type...), '='), int64(len(value)), 10)
			out = append(append(out, ':'), value...)
		}
	}
	return string(out)
}

// Within reports whether the name lies in the subtree of the base: it begins
// with all of the base's components (RFC 5280, 4.2.1.10).
func (n Name) Within(base Name) bool {
	return len(n.Components) >= len(base.Components) &&
		Name{Components: n.Components[:len(base.Components)]}.Key() == Name{Components: base.Components}.Key()
}

// Below returns the name with one more component behind its own.
func (n Name) Below(component []Attribute) Name {
	return Name{Components: append(n.Components[:len(n.Components):len(n.Components)], component)}
}

const sectionName = "RFC 5280 section 4.1.2.4"

// ParseName decodes a distinguished name. The error is a *MalformedError.
func ParseName(der []byte) (Name, error) {
	d := newDecoder(der)
	s := cryptobyte.String(d.base)
	el, ok := d.take(&s, tagSequence, "name")
	if !ok {
		return Name{}, broken(der)
	}
	return d.name(el, "name"), nil
}

// name decodes a distinguished name.
func (d *decoder) name(el element, field string) Name {
	n := d.components(el, field)
	n.key = n.Key()
	return n
}

func (d *decoder) components(el element, field string) Name {
	n := Name{Raw: el.full}
	s := cryptobyte.String(el.content)
	for len(s) > 0 {
		set, ok := d.take(&s, tagSet, field)
		if !ok {
			d.refuse(s, field, sectionName, "a relative name is no set; the rest of the name is not read")
			return n
		}
		component := d.relativeName(set.content, field)
		if len(component) == 0 {
			d.refuse(set.full, field, sectionName, "a relative name is empty")
			continue
		}
		n.Components = append(n.Components, component)
	}
	return n
}

// relativeName decodes the contents of a RelativeDistinguishedName.
func (d *decoder) relativeName(content []byte, field string) (component []Attribute) {
	for inner := cryptobyte.String(content); len(inner) > 0; {
		pair, ok := d.take(&inner, tagSequence, field)
		if !ok {
			d.refuse(inner, field, sectionName, "an attribute of the name is malformed")
			break
		}
		if a, ok := d.attribute(pair, field); ok {
			component = append(component, a)
		}
	}
	return component
}

func (d *decoder) attribute(pair element, field string) (Attribute, bool) {
	s := cryptobyte.String(pair.content)
	id, ok := d.take(&s, tagOID, field)
	if !ok {
		d.refuse(pair.full, field, sectionName, "an attribute of the name has no type")
		return Attribute{}, false
	}
	value, ok := d.next(&s, field)
	if !ok {
		d.refuse(pair.full, field, sectionName, "an attribute of the name has no value")
		return Attribute{}, false
	}
	d.finish(s, field)
	return Attribute{Type: d.oid(id, field), Value: d.text(value, field)}, true
}

// text decodes a string of any of the directory string types.
func (d *decoder) text(el element, field string) string {
	c := el.content
	switch el.tag {
	case tagUTF8:
		if !utf8.Valid(c) {
			d.note(el.full, field, "RFC 3629 section 3", "the UTF8String is not valid UTF-8")
		}
	case tagPrintable:
		if i := strings.IndexFunc(string(c), notPrintable); i >= 0 {
			d.note(c[i:], field, "X.680 section 41.4", "the PrintableString contains %q, which it must not",
				string(c[i]))
		}
	case tagNumeric:
		if strings.Trim(string(c), "0123456789 ") != "" {
			d.note(el.full, field, "X.680 section 41.2",
				"the NumericString contains other characters than digits and space")
		}
	case tagIA5, tagVisible:
		for i, b := range c {
			if b >= 0x80 {
				d.note(c[i:], field, "X.680 section 41", "the string contains the byte %#02x, it must be ASCII", b)
				return latin1(c)
			}
		}
	case tagTeletex:
		return latin1(c)
	case tagBMP:
		if len(c)%2 != 0 {
			d.note(el.full, field, "X.680 section 41.16", "the BMPString has an odd number of bytes")
		}
		units := make([]uint16, 0, len(c)/2)
		for i := 0; i+1 < len(c); i += 2 {
			units = append(units, uint16(c[i])<<8|uint16(c[i+1]))
		}
		return string(utf16.Decode(units))
	case tagUniversal:
		var out strings.Builder
		for i := 0; i+3 < len(c); i += 4 {
			out.WriteRune(rune(uint32(c[i])<<24 | uint32(c[i+1])<<16 | uint32(c[i+2])<<8 | uint32(c[i+3])))
		}
		return out.String()
	default:
		d.note(el.full, field, sectionName, "the value has tag %#02x, which is no string", el.tag)
		return fmt.Sprintf("#%x", c)
	}
	return strings.ToValidUTF8(string(c), "\uFFFD")
}

func notPrintable(r rune) bool {
	switch {
	case r >= 'a' && r <= 'z', r >= 'A' && r <= 'Z', r >= '0' && r <= '9':
		return false
	}
	return !strings.ContainsRune(" '()+,-./:=?", r)
}

// latin1 reads each byte as one character, which is how Teletex strings are used in practice.
func latin1(c []byte) string {
	runes := make([]rune, len(c))
	for i, b := range c {
		runes[i] = rune(b)
	}
	return string(runes)
}
