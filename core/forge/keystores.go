package forge

import (
	"bytes"
	"crypto/cipher"
	"crypto/des"
	"encoding/asn1"
	"encoding/binary"

	"nurvik/core/pbe"
)

// JCEKSEntry is one entry of a Java keystore of the JCEKS kind: a key with its
// chain, an anchor, or a secret key.
type JCEKSEntry struct {
	Alias  string
	PKCS8  []byte   // nil for an anchor or secret
	Chain  [][]byte // DER
	Secret []byte   // a serialised object
}

// JCEKS writes a keystore as Java's older strong provider did. No library in
// use writes them any more, and old application servers still have them.
func JCEKS(password string, entries ...JCEKSEntry) ([]byte, error) {
	var out bytes.Buffer
	number := func(n int) { _ = binary.Write(&out, binary.BigEndian, uint32(n)) } // a buffer refuses nothing
	text := func(s string) {
		_ = binary.Write(&out, binary.BigEndian, uint16(len(s)))
		out.WriteString(s)
	}
	certificate := func(der []byte) {
		text("X.509")
		number(len(der))
		out.Write(der)
	}
	number(0xcececece)
	number(2)
	number(len(entries))
	for _, e := range entries {
		tag := 2
		if e.PKCS8 != nil {
			tag = 1
		} else if e.Secret != nil {
			tag = 3
		}
		number(tag)
		text(e.Alias)
		out.Write(make([]byte, 8)) // when it was made
		switch tag {
		case 1:
			protected, err := protectJCEKS(e.PKCS8, password)
			if err != nil {
				return nil, err
			}
			number(len(protected))
			out.Write(protected)
			number(len(e.Chain))
			for _, der := range e.Chain {
				certificate(der)
			}
		case 2:
			certificate(e.Chain[0])
		case 3:
			out.Write(e.Secret)
		}
	}
	out.Write(pbe.JavaDigest(out.Bytes(), password))
	return out.Bytes(), nil
}

func protectJCEKS(pkcs8 []byte, password string) ([]byte, error) {
	salt := []byte{1, 2, 3, 4, 5, 6, 7, 8}
	const rounds = 2000
	derived := pbe.JCEKSKey(salt, rounds, password)
	block, err := des.NewTripleDESCipher(derived[:24])
	if err != nil {
		return nil, err
	}
	padding := 8 - len(pkcs8)%8
	plain := append(append([]byte{}, pkcs8...), bytes.Repeat([]byte{byte(padding)}, padding)...)
	cipher.NewCBCEncrypter(block, derived[24:]).CryptBlocks(plain, plain)
	type parameters struct {
		Salt   []byte
		Rounds int
	}
	type algorithm struct {
		ID         asn1.ObjectIdentifier
		Parameters parameters
	}
	return asn1.Marshal(struct {
		Algorithm algorithm
		Data      []byte
	}{algorithm{asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 42, 2, 19, 1}, parameters{salt, rounds}}, plain})
}

// JavaSecret is the serialised, sealed object of a secret key in a JCEKS
// keystore, with noise for its contents.
func JavaSecret() []byte {
	var out bytes.Buffer
	add := func(parts ...any) {
		for _, p := range parts {
			switch v := p.(type) {
			case string:
				_ = binary.Write(&out, binary.BigEndian, uint16(len(v)))
				out.WriteString(v)
			default:
				_ = binary.Write(&out, binary.BigEndian, v)
			}
		}
	}
	version := [8]byte{1}
	add(uint16(0xaced), uint16(5), byte(0x73))
	add(byte(0x72), "com.sun.crypto.provider.SealedObjectForKeyProtector", version, byte(2), uint16(0), byte(0x78))
	add(byte(0x72), "javax.crypto.SealedObject", version, byte(2), uint16(4))
	add(byte('['), "encodedParams", byte(0x74), "[B", byte('['), "encryptedContent", byte(0x71), uint32(0x7e0002))
	add(byte('L'), "paramsAlg", byte(0x74), "Ljava/lang/String;", byte('L'), "sealAlg", byte(0x71), uint32(0x7e0003))
	add(byte(0x78), byte(0x70))
	add(byte(0x75), byte(0x72), "[B", version, byte(2), uint16(0), byte(0x78), byte(0x70), uint32(4),
		[4]byte{9, 9, 9, 9})
	add(byte(0x75), byte(0x71), uint32(0x7e0005), uint32(8), [8]byte{7, 7})
	add(byte(0x74), "PBEWithMD5AndTripleDES", byte(0x71), uint32(0x7e0007))
	return out.Bytes()
}

// CertificateSet writes a PKCS#7 file that carries certificates and signs nothing (RFC 2315, 9.1).
func CertificateSet(certificates ...[]byte) ([]byte, error) {
	var all []byte
	for _, der := range certificates {
		all = append(all, der...)
	}
	id := func(last int) []byte {
		der, _ := asn1.Marshal(asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, last}) // a constant that can be written
		return der
	}
	wrap := func(class, tag int, content ...[]byte) asn1.RawValue {
		return asn1.RawValue{Class: class, Tag: tag, IsCompound: true, Bytes: bytes.Join(content, nil)}
	}
	data, err := asn1.Marshal(wrap(asn1.ClassUniversal, asn1.TagSequence, id(1)))
	if err != nil {
		return nil, err
	}
	list, err := asn1.Marshal(wrap(asn1.ClassContextSpecific, 0, all))
	if err != nil {
		return nil, err
	}
	signed, err := asn1.Marshal(wrap(asn1.ClassUniversal, asn1.TagSequence, []byte{2, 1, 1}, []byte{0x31, 0}, data,
		list, []byte{0x31, 0}))
	if err != nil {
		return nil, err
	}
	explicit, err := asn1.Marshal(wrap(asn1.ClassContextSpecific, 0, signed))
	if err != nil {
		return nil, err
	}
	return asn1.Marshal(wrap(asn1.ClassUniversal, asn1.TagSequence, id(2), explicit))
}
