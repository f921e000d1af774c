package draft

import (
	"crypto/x509/pkix"
	"encoding/asn1"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf16"

	"nurvik/core/pki"
)

// identifier is the identifier in the form of the encoding package.
func identifier(id pki.OID) (asn1.ObjectIdentifier, error) {
	var out asn1.ObjectIdentifier
	for text := range strings.SplitSeq(string(id), ".") {
		arc, err := strconv.Atoi(text)
		if err != nil {
			return nil, fmt.Errorf("the identifier %q cannot be written: %w", id, err)
		}
		out = append(out, arc)
	}
	return out, nil
}

// subject is the DER of the name, an attribute a component.
func (w *Wish) subject() ([]byte, error) {
	var out pkix.RDNSequence
	for _, f := range w.Subject {
		id, err := identifier(f.Type)
		if err != nil {
			return nil, err
		}
		var value any = f.Value
		if f.Type == Email { // RFC 5280, appendix A.1
			value = asn1.RawValue{Tag: asn1.TagIA5String, Bytes: []byte(f.Value)}
		}
		out = append(out, pkix.RelativeDistinguishedNameSET{{Type: id, Value: value}})
	}
	der, err := asn1.Marshal(out)
	if err != nil {
		return nil, fmt.Errorf("write the subject: %w", err)
	}
	return der, nil
}

// bmpString is a string of two bytes a character, as Windows writes the name of a template.
func bmpString(text string) ([]byte, error) {
	var content []byte
	for _, unit := range utf16.Encode([]rune(text)) {
		content = append(content, byte(unit>>8), byte(unit))
	}
	return asn1.Marshal(asn1.RawValue{Tag: asn1.TagBMPString, Bytes: content})
}

// FileName is the base of the files of a name: a wildcard's star becomes an underscore.
func FileName(name string) string {
	name = strings.ReplaceAll(name, "*", "_")
	return strings.ReplaceAll(name, ":", "-")
}
