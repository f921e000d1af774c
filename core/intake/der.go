package intake

import (
	"encoding/asn1"
	"math/big"

	"golang.org/x/crypto/cryptobyte"
	tags "golang.org/x/crypto/cryptobyte/asn1"

	"nurvik/core/facts"
	"nurvik/core/keystore"
	"nurvik/core/pki"
)

// shape is what a DER element is by its structure.
type shape int

const (
	isNothing shape = iota
	isCertificate
	isRequest
	isRevocationList
	isPKCS8
	isEncrypted
	isPKCS1
	isPKCS1Public
	isSEC1
	isDSA
	isSPKI
	isSet
	isPKCS12
	isParameters
)

// der reads a file of DER: one or more elements one after the other. It
// reports false when the bytes are nothing of the kind, so that they may be text.
func (s *scan) der(data []byte) bool {
	around := s.place
	defer func() { s.place = around }()
	if s.origin == nil {
		s.place.Form = "DER"
	}
	indefinite := len(data) > 1 && data[0] == 0x30 && data[1] == 0x80 // BER, the whole file
	for offset := 0; offset < len(data); {
		part := data[offset:]
		if s.origin == nil {
			s.place.Offset = offset
		}
		if indefinite {
			whole, err := pki.Definite(part)
			if err != nil && beginsLikeMaterial(part) {
				s.defect(facts.Damaged, "", s.place.Line, s.place.Offset, facts.Unreadable, err)
				return s.behind(data, offset)
			}
			if err != nil {
				return false
			}
			part = whole
		}
		size := elementSize(part)
		if size > len(part) {
			if !beginsLikeMaterial(part) {
				return offset > 0 && s.behind(data, offset)
			}
			s.defect(facts.Damaged, "", s.place.Line, s.place.Offset, facts.CutOff, len(part), size)
			return s.behind(data, offset)
		}
		got, reason := s.element(part[:size], isNothing)
		switch {
		case got == isNothing && offset == 0 && !beginsLikeMaterial(part):
			return false
		case got == isNothing && offset == 0:
			if reason != "" {
				s.defect(facts.Damaged, "", s.place.Line, s.place.Offset, facts.Unreadable, reason)
			}
			return reason != "" && s.behind(data, offset)
		case got == isNothing: // nothing is claimed of what follows, unless it is PEM
			return s.behind(data, offset)
		case indefinite:
			return s.behind(data, offset)
		}
		offset += size
	}
	return true
}

// behind reads the text that follows DER in one file, or is in the midst of what is damaged. It is always true:
// what is in front was recognised.
func (s *scan) behind(data []byte, offset int) bool {
	if rest := data[offset:]; s.origin == nil && mentionsBlocks(rest) {
		around := s.place
		s.place, s.origin = facts.Place{}, &origin{offset: offset, shifted: true}
		t := newText(rest)
		t.normalise()
		s.blocks(t)
		s.place, s.origin = around, nil
	}
	return true
}

// beginsLikeMaterial looks for a sequence that begins as those of certificates, keys, requests, lists and
// keystores do: with a sequence, a small number, an identifier or a large number. Text never does.
func beginsLikeMaterial(data []byte) bool {
	if len(data) < 9 || data[0] != 0x30 {
		return false
	}
	inner := data[2:]
	switch c := data[1]; {
	case c == 0x80:
	case c > 0x80 && c <= 0x84:
		inner = data[2+int(c&0x7f):]
	case c >= 0x30 && c < 0x80: // a short key
		return data[2] == 0x02 && data[3] == 0x01 && (data[5] == 0x04 || data[5] == 0x30) ||
			data[2] == 0x30 && data[4] == 0x06
	default:
		return false
	}
	switch {
	case len(inner) < 3:
		return false
	case inner[0] == 0x30: // what is signed, or an algorithm
		return inner[1] >= 0x80 && inner[1] <= 0x84 || inner[2] == 0x06 || inner[2] == 0x30
	case inner[0] == 0x02: // a version, or a modulus
		return inner[1] == 1 || inner[1] >= 0x81 && inner[1] <= 0x83 || inner[1] > 32
	}
	return inner[0] == 0x06 && inner[1] > 2 && inner[1] < 12
}

// element adds what one DER element is. promised is what a label says, or
// nothing. The reason says why it could not be read as what it seems to be.
func (s *scan) element(der []byte, promised shape) (got shape, reason string) {
	if promised == isCertificate || promised == isRequest {
		if s.signed(der, promised) == nil {
			return promised, ""
		}
	}
	got = shapeOf(der)
	if got == isNothing {
		return isNothing, reasonNothing(der, promised)
	}
	var err error
	switch got {
	case isCertificate, isRequest:
		err = s.signed(der, got)
	case isRevocationList:
		if _, err = pki.ParseRevocationList(der); err == nil {
			s.add(facts.Item{Kind: facts.RevocationList, DER: der})
		}
	case isPKCS8, isPKCS1, isSEC1, isDSA:
		key, structure := s.reader.Memory.Private(der, parsePrivate)
		if key == nil {
			_, err = pki.ParsePKCS8(der)
			break
		}
		s.key(structure, key, der, "")
	case isEncrypted:
		plain, protection, locked := s.reader.PKCS8(der)
		if locked != nil {
			s.lockedKey("PKCS#8", protection, locked)
			break
		}
		key, _ := parsePrivate(plain)
		s.key("PKCS#8", key, plain, protection)
	case isSPKI:
		if _, err = pki.ParsePublicKey(der); err == nil {
			s.add(facts.Item{Kind: facts.PublicKey, DER: der})
		}
	case isPKCS1Public:
		s.add(facts.Item{Kind: facts.PublicKey, DER: pki.RSAInfo(der)})
	case isSet:
		err = s.set(der)
	case isPKCS12:
		var store *keystore.Store
		if store, err = keystore.ReadPKCS12(der, s.reader.Opener); err == nil {
			s.keystore(store)
		}
	case isParameters:
		s.add(facts.Item{Kind: facts.Parameters, DER: der})
	}
	if err != nil {
		return isNothing, err.Error()
	}
	return got, ""
}

// signed adds a certificate or a request. What was met before, in whatever
// file, is not decoded again: the same intermediates lie everywhere.
func (s *scan) signed(der []byte, kind shape) error {
	item := facts.Item{Kind: facts.Certificate}
	decode := s.reader.Memory.Certificate
	if kind == isRequest {
		item.Kind, decode = facts.Request, s.reader.Memory.Request
	}
	var err error
	var b *pki.Brief
	if item.DER, b, err = decode(der); err != nil {
		return err
	}
	item.Learn(b)
	if m := s.reader.Memory; kind == isCertificate && m != nil && m.Forget && len(b.Anomalies) == 0 {
		item.DER = nil
	}
	s.add(item)
	return nil
}

// reasonNothing says what a block that should be something lacks.
func reasonNothing(der []byte, promised shape) string {
	if promised == isCertificate {
		_, err := pki.ParseCertificate(der)
		return err.Error()
	}
	if size := elementSize(der); size > len(der) {
		return "it ends before the length that it states: cut off"
	}
	return "its structure is none that is known"
}

// set reads the certificates of a PKCS#7 file.
func (s *scan) set(der []byte) error {
	set, err := pki.ParseCertificateSet(der)
	if set == nil {
		return err
	}
	around := s.place
	for i, c := range set.Certificates {
		if s.origin == nil && s.place.Line == 0 {
			s.place.Offset = around.Offset + set.Offsets[i]
		}
		if got, reason := s.element(c, isCertificate); got == isNothing {
			s.damaged(facts.SetMember, i+1, reason)
			continue
		}
		s.file.Items[len(s.file.Items)-1].Container = "PKCS#7"
	}
	s.place = around
	for _, list := range set.RevocationLists {
		s.element(list, isRevocationList)
	}
	if err != nil {
		s.damaged(facts.SetDamaged, err)
	}
	if len(set.Certificates)+len(set.RevocationLists) == 0 {
		s.add(facts.Item{Kind: facts.Keystore, Container: "PKCS#7", Detail: &facts.Reason{Code: facts.NoCertificates}})
	}
	return nil
}

// shapeOf looks at the first elements only.
func shapeOf(der []byte) shape {
	s, inner := cryptobyte.String(der), cryptobyte.String(nil)
	if len(der) > 2 && der[0] == byte(tags.OBJECT_IDENTIFIER) {
		return isParameters
	}
	if !s.ReadASN1(&inner, tags.SEQUENCE) || len(inner) == 0 {
		return isNothing
	}
	switch inner[0] {
	case byte(tags.OBJECT_IDENTIFIER):
		return isSet
	case byte(tags.INTEGER):
		return numberedShape(inner)
	case byte(tags.SEQUENCE):
		return signedShape(inner)
	}
	return isNothing
}

// numberedShape tells apart the structures that begin with a number.
func numberedShape(s cryptobyte.String) shape {
	var numbers []*big.Int
	for len(s) > 0 && s[0] == byte(tags.INTEGER) {
		n := new(big.Int)
		if len(numbers) > 10 || !s.ReadASN1Integer(n) {
			return isNothing
		}
		numbers = append(numbers, n)
	}
	version := int64(-1)
	if numbers[0].IsInt64() {
		version = numbers[0].Int64()
	}
	switch {
	case len(numbers) == 1 && len(s) > 0 && s[0] == byte(tags.OCTET_STRING):
		return isSEC1
	case len(numbers) == 1 && len(s) > 0 && s[0] == byte(tags.SEQUENCE) && version == 3:
		return isPKCS12
	case len(numbers) == 1 && len(s) > 0 && s[0] == byte(tags.SEQUENCE) && (version == 0 || version == 1):
		return isPKCS8
	case len(numbers) >= 9 && (version == 0 || version == 1):
		return isPKCS1
	case len(numbers) == 6 && version == 0:
		return isDSA
	case len(numbers) == 2 && len(s) == 0 && numbers[0].BitLen() >= 256 &&
		(numbers[1].BitLen() > 8 || numbers[1].Int64() == 3 || numbers[1].Int64() == 17):
		return isPKCS1Public
	case len(numbers) <= 5 && numbers[0].BitLen() >= 256:
		return isParameters // of Diffie-Hellman or DSA
	}
	return isNothing
}

// signedShape tells apart the structures that begin with a sequence.
func signedShape(s cryptobyte.String) shape {
	var first cryptobyte.String
	if !s.ReadASN1(&first, tags.SEQUENCE) || len(first) == 0 || len(s) == 0 {
		return isNothing
	}
	if first[0] == byte(tags.OBJECT_IDENTIFIER) {
		switch s[0] {
		case byte(tags.OCTET_STRING):
			return isEncrypted
		case byte(tags.BIT_STRING):
			return isSPKI
		}
		return isNothing
	}
	// A signed structure. The second and third elements of what is signed tell which.
	var elements []byte
	for len(first) > 0 && len(elements) < 4 {
		var raw asn1.RawValue
		rest, err := asn1.Unmarshal(first, &raw)
		if err != nil {
			break
		}
		elements = append(elements, first[0])
		first = rest
	}
	switch {
	case len(elements) < 3:
		return isNothing
	case elements[0] == 0xa0:
		return isCertificate
	case elements[0] == 0x30 && isTime(elements[2]), len(elements) > 3 && elements[0] == 2 && isTime(elements[3]):
		return isRevocationList
	case elements[0] == 2 && (len(elements) < 4 || elements[3] == 0xa0):
		return isRequest
	}
	return isCertificate
}

func isTime(tag byte) bool { return tag == byte(tags.UTCTime) || tag == byte(tags.GeneralizedTime) }
