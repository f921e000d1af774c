// Package secrets recognises private keys in what callers send, so that they
// can be refused before anything keeps or logs them.
package secrets

import (
	"bytes"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"errors"
	"io"
	"regexp"
	"strings"
)

// block finds the first line of a private key's PEM block under any label, also
// where a mail program or an environment file bent the dashes or spaces.
var block = regexp.MustCompile(`(?i)BEGIN[A-Z0-9 +_%]{0,40}PRIVATE[ +_%20]{1,4}KEY`)

// InText reports whether the text holds a private key: as PEM, or as base64 of
// PEM or DER.
func InText(text string) bool { return inText(text, 2) }

func inText(text string, depth int) bool {
	if block.MatchString(text) {
		return true
	}
	if depth == 0 || len(text) < 40 {
		return false
	}
	compact := strings.Join(strings.Fields(text), "")
	for _, encoding := range []*base64.Encoding{base64.StdEncoding, base64.RawStdEncoding, base64.URLEncoding,
		base64.RawURLEncoding} {
		if der, err := encoding.DecodeString(compact); err == nil {
			return isKey(der) || inText(string(der), depth-1)
		}
	}
	return false
}

// isKey reports whether the bytes are a private key in one of the DER forms.
func isKey(der []byte) bool {
	if len(der) == 0 || der[0] != 0x30 {
		return false
	}
	_, pkcs8 := x509.ParsePKCS8PrivateKey(der)
	_, pkcs1 := x509.ParsePKCS1PrivateKey(der)
	_, sec1 := x509.ParseECPrivateKey(der)
	return pkcs8 == nil || pkcs1 == nil || sec1 == nil
}

// InJSON reports whether any string of the document, escaped as it may be,
// holds a private key. What is no JSON is looked through as text.
func InJSON(body []byte) bool {
	if block.Match(body) {
		return true
	}
	decoder := json.NewDecoder(bytes.NewReader(body))
	for {
		token, err := decoder.Token()
		if errors.Is(err, io.EOF) {
			return false
		}
		if err != nil {
			return InText(string(body))
		}
		if text, ok := token.(string); ok && InText(text) {
			return true
		}
	}
}
