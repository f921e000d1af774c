package keystore

import (
	"cmp"
	"encoding/asn1"
	"encoding/hex"
	"errors"
	"fmt"
	"unicode/utf16"

	"nurvik/core/pbe"
	"nurvik/core/pki"
)

// The structures of RFC 7292, section 4.
type pfx struct {
	Version  int
	AuthSafe contentInfo
	Mac      macData `asn1:"optional"`
}

type contentInfo struct {
	Type    asn1.ObjectIdentifier
	Content asn1.RawValue `asn1:"explicit,optional,tag:0"`
}

type macData struct {
	Mac    digestInfo
	Salt   []byte
	Rounds int `asn1:"optional,default:1"`
}

type digestInfo struct {
	Algorithm asn1.RawValue
	Digest    []byte
}

type encryptedData struct {
	Version int
	Info    struct {
		Type      asn1.ObjectIdentifier
		Algorithm asn1.RawValue
		Content   asn1.RawValue `asn1:"optional,tag:0"`
	}
}

type safeBag struct {
	ID         asn1.ObjectIdentifier
	Value      asn1.RawValue  `asn1:"explicit,tag:0"`
	Attributes []bagAttribute `asn1:"set,optional"`
}

type bagAttribute struct {
	ID     asn1.ObjectIdentifier
	Values asn1.RawValue `asn1:"set"`
}

type typedValue struct {
	ID    asn1.ObjectIdentifier
	Value asn1.RawValue `asn1:"explicit,tag:0"`
}

const (
	oidData      = "1.2.840.113549.1.7.1"
	oidSigned    = "1.2.840.113549.1.7.2"
	oidEnveloped = "1.2.840.113549.1.7.3"
	oidEncrypted = "1.2.840.113549.1.7.6"

	oidKeyBag      = "1.2.840.113549.1.12.10.1.1"
	oidShroudedBag = "1.2.840.113549.1.12.10.1.2"
	oidCertBag     = "1.2.840.113549.1.12.10.1.3"
	oidCRLBag      = "1.2.840.113549.1.12.10.1.4"
	oidSecretBag   = "1.2.840.113549.1.12.10.1.5"
	oidSafeBag     = "1.2.840.113549.1.12.10.1.6"

	oidFriendlyName = "1.2.840.113549.1.9.20"
	oidLocalKeyID   = "1.2.840.113549.1.9.21"
	oidTrustedUsage = "2.16.840.1.113894.746875.1.1" // by which Java marks anchors
)

func readPFX(data []byte) (pfx, error) {
	var p pfx
	der, err := pki.Definite(data)
	if err != nil {
		return p, ErrNoStore
	}
	if _, err := asn1.Unmarshal(pki.Rewritten(der), &p); err != nil || p.Version != 3 {
		return p, ErrNoStore
	}
	return p, nil
}

// ReadPKCS12 reads a PKCS#12 store. The error is ErrNoStore; what stays closed
// or is damaged inside is told by the result.
func ReadPKCS12(data []byte, o Opener) (*Store, error) {
	p, err := readPFX(data)
	if err != nil {
		return nil, err
	}
	r := &reader12{store: &Store{Kind: "PKCS#12"}, opener: o}
	var content []byte
	switch p.AuthSafe.Type.String() {
	case oidData:
		if content, err = octets(p.AuthSafe.Content.FullBytes); err != nil {
			r.problem("its contents are malformed")
			return r.store, nil
		}
	case oidSigned:
		r.problem("it is signed with a key instead of a password, which is not read")
		return r.store, nil
	default:
		return nil, ErrNoStore
	}
	integrity := r.checkMAC(p.Mac, content)
	r.safes(content)
	switch {
	case integrity == nil || r.store.Locked != nil:
	case r.opened && errors.Is(integrity, pbe.ErrPassword):
		r.problem("its contents open with the password and its integrity value does not fit: it was changed after " +
			"it was written")
	default:
		r.store.Locked = integrity
	}
	return r.store, nil
}

// octets opens an OCTET STRING, which may be wrapped in its explicit tag.
func octets(der []byte) ([]byte, error) {
	var raw asn1.RawValue
	if _, err := asn1.Unmarshal(der, &raw); err != nil {
		return nil, err
	}
	if raw.Class == asn1.ClassContextSpecific {
		if !raw.IsCompound {
			return raw.Bytes, nil
		}
		var joined []byte // explicit, or in pieces as BER allows
		for rest := raw.Bytes; len(rest) > 0; {
			var piece asn1.RawValue
			var err error
			if rest, err = asn1.Unmarshal(rest, &piece); err != nil || piece.Class != asn1.ClassUniversal ||
				piece.IsCompound {
				return nil, pbe.ErrDamaged
			}
			joined = append(joined, piece.Bytes...)
		}
		return joined, nil
	}
	if raw.Tag == asn1.TagSequence || raw.Tag == asn1.TagSet {
		return nil, pbe.ErrDamaged
	}
	return raw.Bytes, nil
}

type reader12 struct {
	store  *Store
	opener Opener
	opened bool // an encrypted part could be read
}

func (r *reader12) problem(format string, args ...any) {
	r.store.Problems = append(r.store.Problems, fmt.Sprintf(format, args...))
}

// checkMAC finds the password that the integrity value fits, and tries it first from then on.
func (r *reader12) checkMAC(m macData, content []byte) error {
	if len(m.Mac.Digest) == 0 {
		return nil
	}
	return r.opener.Try(func(password string) error {
		err := pbe.CheckMAC(m.Mac.Algorithm.FullBytes, m.Mac.Digest, m.Salt, m.Rounds, content, password,
			r.opener.Budget)
		if err == nil {
			r.store.Checked = true
			r.opener.Passwords = append([]string{password}, r.opener.Passwords...)
		}
		return err
	})
}

// safes reads the sequence of contents, each in the open or encrypted.
func (r *reader12) safes(der []byte) {
	var safes []contentInfo
	if _, err := asn1.Unmarshal(pki.Rewritten(der), &safes); err != nil {
		r.problem("its list of contents is malformed")
		return
	}
	for _, safe := range safes {
		switch safe.Type.String() {
		case oidData:
			if bags, err := octets(safe.Content.FullBytes); err == nil {
				r.bags(bags, 0)
			} else {
				r.problem("a part of its contents is malformed")
			}
		case oidEncrypted:
			r.encrypted(safe.Content.Bytes)
		case oidEnveloped:
			r.problem("a part of it is encrypted for a certificate instead of a password, which is not read")
		default:
			r.problem("a part of it has the unknown type %s", safe.Type)
		}
	}
}

func (r *reader12) encrypted(der []byte) {
	var data encryptedData
	if _, err := asn1.Unmarshal(der, &data); err != nil {
		r.problem("an encrypted part is malformed")
		return
	}
	content, err := octets(data.Info.Content.FullBytes)
	if err != nil {
		r.problem("an encrypted part is malformed")
		return
	}
	var bags []byte
	err = r.opener.Try(func(password string) error {
		plain, err := pbe.Decrypt(data.Info.Algorithm.FullBytes, content, password, r.opener.Budget)
		if err != nil {
			return err
		}
		plain = pki.Rewritten(plain)
		var list []asn1.RawValue
		if rest, err := asn1.Unmarshal(plain, &list); err != nil || len(rest) > 0 {
			return pbe.ErrPassword
		}
		bags = plain
		return nil
	})
	if err != nil {
		r.store.Locked = err
		return
	}
	r.opened = true
	r.bags(bags, 0)
}

// bags reads the entries; bags of bags end at a depth that no real store reaches.
func (r *reader12) bags(der []byte, depth int) {
	var list []asn1.RawValue
	if _, err := asn1.Unmarshal(pki.Rewritten(der), &list); err != nil || depth > 8 {
		r.problem("a list of entries is malformed")
		return
	}
	for _, raw := range list {
		if len(r.store.Entries) >= maxEntries {
			r.problem("it has more than %d entries; the rest is not read", maxEntries)
			return
		}
		var bag safeBag
		if _, err := asn1.Unmarshal(raw.FullBytes, &bag); err != nil {
			r.problem("an entry is malformed")
			continue
		}
		r.bag(bag, depth)
	}
}

func (r *reader12) bag(bag safeBag, depth int) {
	e := Entry{}
	e.Alias, e.Link = names(bag.Attributes)
	switch bag.ID.String() {
	case oidKeyBag:
		e.Kind, e.Key = PrivateKey, bag.Value.Bytes
	case oidShroudedBag:
		e.Kind, e.Encrypted = PrivateKey, true
		e.Key, e.Protection, e.Locked = r.opener.PKCS8(bag.Value.Bytes)
		if e.Locked != nil && r.store.Locked == nil {
			r.store.Locked = e.Locked
		}
	case oidCertBag, oidCRLBag:
		var value typedValue
		var der []byte
		_, err := asn1.Unmarshal(bag.Value.Bytes, &value)
		if err == nil {
			der, err = octets(value.Value.FullBytes)
		}
		if err != nil {
			r.problem("an entry is malformed")
			return
		}
		if bag.ID.String() == oidCRLBag {
			e.Kind, e.List = RevocationList, der
			break
		}
		e.Kind, e.Certificates = Certificate, [][]byte{der}
		for _, a := range bag.Attributes {
			if a.ID.String() == oidTrustedUsage {
				e.Kind = Trusted
			}
		}
	case oidSecretBag:
		e.Kind = SecretKey
	case oidSafeBag:
		r.bags(bag.Value.Bytes, depth+1)
		return
	default:
		r.problem("an entry has the unknown type %s", bag.ID)
		return
	}
	r.store.Entries = append(r.store.Entries, e)
}

// names are the friendly name, else the local key identifier in hexadecimal, and
// the identifier, else the name: a key and its certificate have the same (RFC 7292, 4.2).
func names(attributes []bagAttribute) (alias, link string) {
	for _, a := range attributes {
		var value asn1.RawValue
		if _, err := asn1.Unmarshal(a.Values.Bytes, &value); err != nil {
			continue
		}
		switch a.ID.String() {
		case oidFriendlyName:
			units := make([]uint16, len(value.Bytes)/2)
			for i := range units {
				units[i] = uint16(value.Bytes[2*i])<<8 | uint16(value.Bytes[2*i+1])
			}
			alias = pki.Printable(string(utf16.Decode(units)))
		case oidLocalKeyID:
			link = pki.Printable(hex.EncodeToString(value.Bytes))
		}
	}
	return cmp.Or(alias, link), cmp.Or(link, alias)
}

// PKCS8 opens an EncryptedPrivateKeyInfo (RFC 5208, 6): the plain PKCS#8, the
// protection in words, and why it was not opened.
func (o Opener) PKCS8(der []byte) (plain []byte, protection string, err error) {
	var info struct {
		Algorithm asn1.RawValue
		Data      []byte
	}
	if _, err := asn1.Unmarshal(der, &info); err != nil {
		return nil, "", fmt.Errorf("%w: the encrypted key is malformed", pbe.ErrDamaged)
	}
	protection = pbe.Name(info.Algorithm.FullBytes)
	err = o.Try(func(password string) error {
		out, err := pbe.Decrypt(info.Algorithm.FullBytes, info.Data, password, o.Budget)
		if err != nil {
			return err
		}
		if _, err := pki.ParsePKCS8(out); err != nil { // the padding fitted by chance
			return pbe.ErrPassword
		}
		plain = out
		return nil
	})
	return plain, protection, err
}
