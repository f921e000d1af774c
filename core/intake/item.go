package intake

import (
	"bytes"
	"encoding/binary"
	"errors"
	"hash/maphash"
	"strings"

	"nurvik/core/facts"
	"nurvik/core/keystore"
	"nurvik/core/pbe"
	"nurvik/core/pki"
)

// labels that are in use for material (RFC 7468, and older), with the shape
// that each promises.
var labels = map[string]shape{
	"CERTIFICATE": isCertificate, "X509 CERTIFICATE": isCertificate, "X.509 CERTIFICATE": isCertificate,
	"TRUSTED CERTIFICATE": isCertificate,
	"CERTIFICATE REQUEST": isRequest, "NEW CERTIFICATE REQUEST": isRequest,
	"PRIVATE KEY": isPKCS8, "ENCRYPTED PRIVATE KEY": isEncrypted, "RSA PRIVATE KEY": isPKCS1, "EC PRIVATE KEY": isSEC1,
	"DSA PRIVATE KEY": isDSA,
	"PUBLIC KEY":      isSPKI, "RSA PUBLIC KEY": isPKCS1Public,
	"X509 CRL": isRevocationList, "CRL": isRevocationList,
	"PKCS7": isSet, "PKCS #7 SIGNED DATA": isSet, "CMS": isSet, "PKCS12": isPKCS12,
	"EC PARAMETERS": isParameters, "DH PARAMETERS": isParameters, "X9.42 DH PARAMETERS": isParameters,
	"DSA PARAMETERS": isParameters,
}

// labelOf is the label as text; those in use are not copied.
func labelOf(text []byte) string {
	if label, ok := labelTexts[string(text)]; ok {
		return label
	}
	return string(text)
}

var labelTexts = func() map[string]string {
	texts := map[string]string{}
	for label := range labels {
		texts[label] = label
	}
	return texts
}()

var shapeWords = map[shape]string{
	isCertificate: "a certificate", isRequest: "a certificate request", isPKCS8: "a private key in PKCS#8",
	isEncrypted: "an encrypted private key",
	isPKCS1:     "an RSA private key", isSEC1: "an EC private key", isDSA: "a DSA private key", isSPKI: "a public key",
	isPKCS1Public:    "an RSA public key",
	isRevocationList: "a CRL", isSet: "a set of certificates in PKCS#7", isPKCS12: "a PKCS#12 keystore",
	isParameters: "parameters",
}

// block reads the contents of a labelled block. incomplete says that its END line is missing.
func (s *scan) block(label, encryption string, der []byte, incomplete bool) {
	promised, known := labels[label]
	if encryption != "" {
		s.legacyKey(label, encryption, der)
		return
	}
	if label == "TRUSTED CERTIFICATE" { // trust settings follow the certificate
		der = der[:min(elementSize(der), len(der))]
	}
	if s.again(der) && known {
		s.defect(facts.Repeated, facts.Standard, s.place.Line, s.place.Offset, facts.BlockRepeated)
	}
	if text := string(der[:min(len(der), 11)]); text == "-----BEGIN " ||
		len(der) > 0 && der[0] != 0x30 && looksBase64(der) {
		s.defect(facts.DoubleBase64, facts.Outside, s.place.Line, s.place.Offset, facts.BlockTwiceEncoded)
		around, outer := s.place, s.origin
		s.origin = &origin{line: s.place.Line, offset: s.place.Offset}
		s.place.Form = joined(s.place.Form, "base64")
		if s.depth++; s.depth < 3 {
			s.bytes(der)
		}
		s.depth--
		s.place, s.origin = around, outer
		return
	}
	got, reason := s.element(der, promised)
	switch {
	case got == isNothing && known && !incomplete:
		s.damaged(facts.BlockUnreadable, shapeWords[promised], reason)
	case got == isNothing:
	case !known:
		s.defect(facts.WrongLabel, facts.Outside, s.place.Line, s.place.Offset, facts.LabelUnknown,
			pki.Printable(label), shapeWords[got])
	case got != promised && label != "ANY PRIVATE KEY":
		s.defect(facts.WrongLabel, facts.Outside, s.place.Line, s.place.Offset, facts.LabelOther, label,
			shapeWords[got])
	}
}

// again reports whether the same bytes were met in this file.
func (s *scan) again(der []byte) bool {
	if s.first == nil { // most files have one block
		s.first = der
		return false
	}
	if s.seen == nil {
		s.seen = map[uint64][]byte{maphash.Bytes(sums, s.first): s.first}
	}
	sum := maphash.Bytes(sums, der)
	met := bytes.Equal(s.seen[sum], der)
	s.seen[sum] = der
	return met
}

// sums makes sums of bytes that nobody outside can foresee.
var sums = maphash.MakeSeed()

// elementSize is the length in bytes of the DER element that the data begin with.
func elementSize(der []byte) int {
	if len(der) < 2 || der[1] < 0x80 {
		if len(der) < 2 {
			return len(der)
		}
		return 2 + int(der[1])
	}
	n := int(der[1] & 0x7f)
	if n == 0 || n > 4 || len(der) < 2+n {
		return len(der)
	}
	var length [8]byte
	copy(length[8-n:], der[2:2+n])
	return 2 + n + int(binary.BigEndian.Uint64(length[:]))
}

func (s *scan) add(item facts.Item) {
	item.Place = s.place
	s.file.Items = append(s.file.Items, item)
}

// key adds a private key. encrypted says how it was protected, "" for not.
func (s *scan) key(structure string, key *pki.PrivateKey, private []byte, protection string) {
	k := &facts.Key{SPKI: key.Public.Raw, Structure: structure, Encrypted: protection != "", Protection: protection}
	for _, problem := range key.Problems {
		k.Problems = append(k.Problems, facts.Because(facts.KeyPartsDisagree, problem))
	}
	item := facts.Item{Kind: facts.PrivateKey, Key: k}
	if key.Comparable() {
		b := s.reader.Memory.Learn(key.Public)
		k.Type = b.Key
		item.Learn(b)
	} else {
		k.Type = key.Public.String()
	}
	s.add(item)
	if s.reader.Private != nil {
		s.reader.Private(&s.file, private)
	}
}

// lockedKey adds a private key that stayed closed.
func (s *scan) lockedKey(structure, protection string, why error) {
	s.add(facts.Item{Kind: facts.PrivateKey, Key: &facts.Key{Structure: structure, Encrypted: true,
		Protection: protection, Locked: reasonOf(why)}})
}

// reasonOf sorts the errors of opening into those that people are told apart.
func reasonOf(err error) string {
	switch {
	case err == nil:
		return ""
	case errors.Is(err, keystore.ErrNoPassword):
		return facts.NoPassword
	case errors.Is(err, pbe.ErrPassword):
		return facts.WrongPassword
	case errors.Is(err, pbe.ErrTooCostly):
		return facts.TooCostly
	case errors.Is(err, pbe.ErrUnsupported):
		return facts.Unsupported
	}
	return facts.DamagedInside
}

// legacyKey opens a block with a DEK-Info header (RFC 1421, 4.6.1.3).
func (s *scan) legacyKey(label, info string, ciphertext []byte) {
	cipher, _, _ := strings.Cut(info, ",")
	protection := "PEM encryption, MD5 and " + pki.Printable(cipher)
	var key *pki.PrivateKey
	var private []byte
	structure := "PKCS#1"
	err := s.reader.Try(func(password string) error {
		der, err := pbe.DecryptPEM(info, ciphertext, password)
		if err != nil {
			return err
		}
		private = der
		if key, structure = parsePrivate(der); key == nil {
			return pbe.ErrPassword // the padding fitted by chance
		}
		return nil
	})
	if err != nil {
		s.lockedKey(strings.TrimSuffix(label, " PRIVATE KEY"), protection, err)
		return
	}
	s.key(structure, key, private, protection)
}

// parsePrivate reads a private key of any structure; nil when it is none.
func parsePrivate(der []byte) (*pki.PrivateKey, string) {
	for _, p := range []struct {
		structure string
		parse     func([]byte) (*pki.PrivateKey, error)
	}{{"PKCS#8", pki.ParsePKCS8}, {"PKCS#1", pki.ParsePKCS1}, {"SEC1", pki.ParseSEC1}, {"DSA", pki.ParseDSA}} {
		if key, err := p.parse(der); err == nil {
			return key, p.structure
		}
	}
	return nil, ""
}

// keystore adds what a keystore holds.
func (s *scan) keystore(store *keystore.Store) {
	around := s.place
	s.place.Form = joined(strings.TrimSuffix(around.Form, "DER"), store.Kind)
	for _, problem := range store.Problems {
		s.damaged(facts.StoreDamaged, store.Kind, problem)
	}
	locked := false
	for _, e := range store.Entries {
		first := len(s.file.Items)
		switch e.Kind {
		case keystore.PrivateKey:
			s.entryKey(e)
			locked = locked || e.Locked != nil
		case keystore.SecretKey:
			s.add(facts.Item{Kind: facts.SecretKey})
		case keystore.RevocationList:
			if got, reason := s.element(e.List, isRevocationList); got == isNothing {
				s.damaged(facts.StoreList, e.Alias, reason)
			}
		}
		for _, der := range e.Certificates {
			if _, err := pki.ParseCertificate(der); err != nil {
				s.damaged(facts.StoreCertificate, e.Alias, err)
				continue
			}
			s.add(facts.Item{Kind: facts.Certificate, DER: der, Trusted: e.Kind == keystore.Trusted})
		}
		for i := first; i < len(s.file.Items); i++ {
			item := &s.file.Items[i]
			item.Container, item.Alias, item.Link, item.Unchecked = store.Kind, e.Alias, e.Link, !store.Checked
		}
	}
	if store.Locked != nil && !locked || len(store.Entries) == 0 {
		detail := facts.Because(facts.NoEntries)
		if store.Locked != nil {
			detail = facts.Because(facts.ProtectionUnknown, store.Locked)
		}
		s.add(facts.Item{Kind: facts.Keystore, Container: store.Kind, Locked: reasonOf(store.Locked), Detail: &detail})
	}
	s.place = around
}

func (s *scan) entryKey(e keystore.Entry) {
	switch key, structure := parsePrivate(e.Key); {
	case e.Locked != nil:
		s.lockedKey("PKCS#8", e.Protection, e.Locked)
	case key == nil:
		s.damaged(facts.StoreKey, e.Alias)
	default:
		s.key(structure, key, e.Key, e.Protection)
	}
}
