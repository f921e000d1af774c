package pki

import (
	"fmt"

	"golang.org/x/crypto/cryptobyte"
)

// Universal tags that the decoder meets (X.680, 8.4), as identifier octets.
const (
	tagBoolean     = 0x01
	tagInteger     = 0x02
	tagBitString   = 0x03
	tagOctetString = 0x04
	tagNull        = 0x05
	tagOID         = 0x06
	tagEnumerated  = 0x0a
	tagUTF8        = 0x0c
	tagNumeric     = 0x12
	tagPrintable   = 0x13
	tagTeletex     = 0x14
	tagIA5         = 0x16
	tagUTCTime     = 0x17
	tagGeneralized = 0x18
	tagVisible     = 0x1a
	tagUniversal   = 0x1c
	tagBMP         = 0x1e
	tagSequence    = 0x30
	tagSet         = 0x31
)

const (
	classContext = 0x80
	constructed  = 0x20
)

// contextTag is the identifier octet of a context-specific tag.
func contextTag(number byte, isConstructed bool) byte {
	tag := classContext | number
	if isConstructed {
		tag |= constructed
	}
	return tag
}

// element is one tag, length and value. All slices share the array of the
// certificate, which is what makes offsets possible.
type element struct {
	tag     byte
	full    []byte // identifier, length and contents
	content []byte
}

// Anomaly is a defect past which the decoder read on.
type Anomaly struct {
	Offset int    `json:"offset"` // in bytes, from the start of the DER
	Field  string `json:"field"`  // RFC 5280's name for the place, such as "serialNumber"
	Text   string `json:"text"`   // what is wrong
	Source string `json:"source"` // the section that says so
}

// decoder walks one DER value and collects anomalies.
type decoder struct {
	base      []byte
	anomalies []Anomaly
	refused   string // the first thing that could not be processed, since whoever asks about it cleared it
}

func newDecoder(der []byte) *decoder {
	// The capacity is clipped so that offset can be computed from what is left of it.
	return &decoder{base: der[:len(der):len(der)]}
}

// offset tells where a slice of the base begins.
func (d *decoder) offset(part []byte) int {
	return cap(d.base) - cap(part)
}

// maxAnomalies bounds what a hostile certificate can make a report carry.
const maxAnomalies = 100

func (d *decoder) note(part []byte, field, source, format string, args ...any) {
	if len(d.anomalies) >= maxAnomalies {
		return
	}
	d.anomalies = append(d.anomalies, Anomaly{Offset: d.offset(part), Field: field, Text: fmt.Sprintf(format, args...),
		Source: source})
}

// refuse notes a defect behind which something is not known: what holds it cannot be processed.
func (d *decoder) refuse(part []byte, field, source, format string, args ...any) {
	d.note(part, field, source, format, args...)
	if d.refused == "" {
		d.refused = fmt.Sprintf(format, args...)
	}
}

// next reads one element. It accepts lengths that are not minimal, which DER
// forbids (X.690, 10.1), and notes them. It reports false, without consuming,
// when no whole element is there.
func (d *decoder) next(s *cryptobyte.String, field string) (element, bool) {
	rest := []byte(*s)
	if len(rest) < 2 || rest[0]&0x1f == 0x1f {
		return element{}, false
	}
	header, length := 2, int(rest[1])
	minimal := true
	switch {
	case length == 0x80: // indefinite length: BER, never DER
		return element{}, false
	case length > 0x80:
		count := length & 0x7f
		if count > 4 || len(rest) < 2+count {
			return element{}, false
		}
		length = 0
		for _, b := range rest[2 : 2+count] {
			length = length<<8 | int(b)
		}
		header += count
		minimal = length >= 0x80 && rest[2] != 0
	}
	if length < 0 || length > len(rest)-header {
		return element{}, false
	}
	if !minimal {
		d.note(rest, field, "X.690 section 10.1", "the length is not in its shortest form")
	}
	var full []byte
	if !s.ReadBytes(&full, header+length) { // shares the array, so offsets stay known
		return element{}, false
	}
	return element{tag: rest[0], full: full, content: full[header:]}, true
}

// take reads one element that must have the given tag.
func (d *decoder) take(s *cryptobyte.String, tag byte, field string) (element, bool) {
	before := *s
	el, ok := d.next(s, field)
	if !ok || el.tag != tag {
		*s = before
		return element{}, false
	}
	return el, true
}

// optional reads one element if it has the given tag.
func (d *decoder) optional(s *cryptobyte.String, tag byte, field string) (element, bool) {
	if len(*s) == 0 || (*s)[0] != tag {
		return element{}, false
	}
	return d.take(s, tag, field)
}

// finish notes bytes that are left over where a structure should end.
func (d *decoder) finish(s cryptobyte.String, field string) {
	if len(s) > 0 {
		d.refuse(s, field, "X.690 section 8.1", "%d bytes follow the end of the structure", len(s))
	}
}

// oid reads an object identifier's contents.
func (d *decoder) oid(el element, field string) OID {
	id, ok := parseOID(el.content)
	if !ok {
		d.refuse(el.full, field, "X.690 section 8.19", "the object identifier is malformed")
	}
	return id
}

// boolean reads a BOOLEAN's contents; DER knows only 00 and FF (X.690, 11.1).
func (d *decoder) boolean(el element, field string) bool {
	if len(el.content) != 1 {
		d.refuse(el.full, field, "X.690 section 8.2", "the boolean has %d bytes instead of one", len(el.content))
		return len(el.content) > 0 && el.content[0] != 0
	}
	if b := el.content[0]; b != 0 && b != 0xff {
		d.note(el.full, field, "X.690 section 11.1", "the boolean is %#02x, DER allows 00 and ff", b)
	}
	return el.content[0] != 0
}

// smallInt reads a non-negative INTEGER that fits in 31 bits.
func (d *decoder) smallInt(el element, field string) (int, bool) {
	if len(el.content) == 0 || len(el.content) > 5 || el.content[0]&0x80 != 0 {
		d.refuse(el.full, field, "X.690 section 8.3", "the number is empty, negative or too large")
		return 0, false
	}
	value := 0
	for _, b := range el.content {
		value = value<<8 | int(b)
	}
	if value > 1<<31-1 {
		d.refuse(el.full, field, "X.690 section 8.3", "the number is too large")
		return 0, false
	}
	return value, true
}

// bitString reads a BIT STRING's contents: the bits, left-aligned, and how many there are.
func (d *decoder) bitString(el element, field string) ([]byte, int, bool) {
	c := el.content
	if len(c) == 0 || c[0] > 7 || (len(c) == 1 && c[0] != 0) {
		d.refuse(el.full, field, "X.690 section 8.6", "the bit string is malformed")
		return nil, 0, false
	}
	bits := c[1:]
	count := len(bits)*8 - int(c[0])
	if len(bits) > 0 && bits[len(bits)-1]&(1<<c[0]-1) != 0 {
		d.note(el.full, field, "X.690 section 11.2.1", "unused bits of the bit string are set")
	}
	return bits, count, true
}
