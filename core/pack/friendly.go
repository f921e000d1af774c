package pack

import (
	"bytes"
	"encoding/asn1"
	"errors"
	"fmt"
	"slices"
	"unicode/utf16"

	"nurvik/core/pbe"
)

// The parts of PKCS#12 that a name is put into (RFC 7292, 4).
type (
	pfx struct {
		Version  int
		AuthSafe contentInfo
		MacData  macData
	}
	contentInfo struct {
		Type    asn1.ObjectIdentifier
		Content asn1.RawValue `asn1:"explicit,tag:0"`
	}
	macData struct {
		Mac struct {
			Algorithm struct {
				Algorithm  asn1.ObjectIdentifier
				Parameters asn1.RawValue `asn1:"optional"`
			}
			Digest []byte
		}
		Salt       []byte
		Iterations int `asn1:"optional,default:1"`
	}
	safeBag struct {
		ID         asn1.ObjectIdentifier
		Value      asn1.RawValue   `asn1:"explicit,tag:0"`
		Attributes []asn1.RawValue `asn1:"set,optional"`
	}
	bagAttribute struct {
		ID     asn1.ObjectIdentifier
		Values []asn1.RawValue `asn1:"set"`
	}
)

var (
	idData         = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 1}
	idFriendlyName = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 20}
	idShroudedKey  = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 12, 10, 1, 2}
)

var errStore = errors.New("the keystore that was written has another form than expected")

// named gives the key in a PKCS#12 keystore its name, which the package that writes them has no way to do: the bag of
// the key lies in a part that is not encrypted itself, and the integrity value is computed anew.
func named(data []byte, alias, password string) ([]byte, error) {
	var store pfx
	if err := decode(data, &store); err != nil {
		return nil, err
	}
	var safe []byte
	if err := decode(store.AuthSafe.Content.Bytes, &safe); err != nil {
		return nil, err
	}
	var parts []contentInfo
	if err := decode(safe, &parts); err != nil {
		return nil, err
	}
	found := false
	for i := range parts {
		if !parts[i].Type.Equal(idData) {
			continue
		}
		changed, err := nameKey(&parts[i], alias)
		if err != nil {
			return nil, err
		}
		found = found || changed
	}
	if !found {
		return nil, errStore
	}
	safe, err := asn1.Marshal(parts)
	if err != nil {
		return nil, err
	}
	if store.AuthSafe.Content, err = wrapped(safe); err != nil {
		return nil, err
	}
	store.MacData.Mac.Digest, err = pbe.MAC(store.MacData.Mac.Algorithm.Algorithm.String(), store.MacData.Salt,
		store.MacData.Iterations, safe, password)
	if err != nil {
		return nil, err
	}
	return asn1.Marshal(store)
}

// nameKey puts the name into the bag of the key.
func nameKey(part *contentInfo, alias string) (changed bool, err error) {
	var content []byte
	if err := decode(part.Content.Bytes, &content); err != nil {
		return false, err
	}
	var bags []safeBag
	if err := decode(content, &bags); err != nil {
		return false, err
	}
	for i := range bags {
		if !bags[i].ID.Equal(idShroudedKey) {
			continue
		}
		var text []byte
		for _, unit := range utf16.Encode([]rune(alias)) {
			text = append(text, byte(unit>>8), byte(unit))
		}
		name, err := asn1.Marshal(bagAttribute{idFriendlyName, []asn1.RawValue{{Tag: asn1.TagBMPString, Bytes: text}}})
		if err != nil {
			return false, err
		}
		bags[i].Attributes = append(bags[i].Attributes, asn1.RawValue{FullBytes: name})
		slices.SortFunc(bags[i].Attributes, func(a, b asn1.RawValue) int { // a SET is written in order (X.690, 11.6)
			return bytes.Compare(a.FullBytes, b.FullBytes)
		})
		changed = true
	}
	if content, err = asn1.Marshal(bags); err != nil {
		return false, err
	}
	part.Content, err = wrapped(content)
	return changed, err
}

// wrapped is an OCTET STRING as the contents of a part.
func wrapped(content []byte) (asn1.RawValue, error) {
	octets, err := asn1.Marshal(content)
	return asn1.RawValue{Class: asn1.ClassContextSpecific, Tag: 0, IsCompound: true, Bytes: octets}, err
}

func decode(der []byte, into any) error {
	rest, err := asn1.Unmarshal(der, into)
	switch {
	case err != nil:
		return fmt.Errorf("%w: %w", errStore, err)
	case len(rest) > 0:
		return errStore
	}
	return nil
}
