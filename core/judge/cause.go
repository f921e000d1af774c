package judge

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/pem"
	"strings"

	"nurvik/core/pki"
)

// Cause is what findings at many places have in common: they go away by one repair, made once or everywhere alike.
type Cause struct {
	ID    string // the same for the same cause tomorrow
	About string // what it is about, for people: a certificate, an issuer, a setting; "" where it is the code alone
}

// CauseOf is the cause of a finding: the certificates that are missing, the issuer that nobody knows, the certificate
// that is at fault, or what the servers are set to. What is about one name, address or file alone has its
// code in common with others.
func CauseOf(f Finding) Cause {
	e, thing, about := f.Evidence, "", ""
	switch {
	case len(e.MissingPEM) > 0:
		thing, about = "missing "+strings.Join(e.MissingPEM, "\n"), missingLabels(e.MissingPEM)
	case e.Issuer != "" && (chainCodes[f.Code] || f.Code == unknownAnchorCode):
		thing, about = "issuer "+e.Issuer, e.Issuer
	case e.Certificate != nil:
		thing, about = "certificate "+e.Certificate.String(), f.About
	case settingCode(f.Code):
		thing = "setting " + f.Subject
		if isVersion(f.Subject) { // other subjects say no more than the code
			about = f.Subject
		}
	}
	sum := sha256.Sum256([]byte(f.Code + "\x00" + thing))
	return Cause{ID: hex.EncodeToString(sum[:8]), About: about}
}

// settingCode reports whether findings of the code are about what a server is set to, so that their subject is the same
// at each.
func settingCode(code string) bool {
	group, _, _ := strings.Cut(code, ".")
	return group == "proto" || group == "suite" || group == "group"
}

func isVersion(text string) bool {
	return strings.HasPrefix(text, "TLS ") || strings.HasPrefix(text, "SSL ")
}

func missingLabels(list []string) string {
	var labels []string
	for _, text := range list {
		block, _ := pem.Decode([]byte(text))
		if block == nil {
			continue
		}
		if c, err := pki.ParseCertificate(block.Bytes); err == nil {
			labels = append(labels, c.Label())
		}
	}
	return strings.Join(labels, ", ")
}
