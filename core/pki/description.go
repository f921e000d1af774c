package pki

import (
	"encoding/hex"
	"encoding/pem"
	"strings"
)

// Description is what people and programs are told of a certificate. It is
// made from the DER whenever it is needed and never judged.
type Description struct {
	Summary
	Subject          string    `json:"subject" doc:"The whole name"`
	IssuerName       string    `json:"issuer_name" doc:"The whole name"`
	Signature        string    `json:"signature" doc:"Algorithm of the signature"`
	KeyUsage         []string  `json:"key_usage,omitempty"`
	ExtendedKeyUsage []string  `json:"extended_key_usage,omitempty"`
	SubjectKeyID     string    `json:"subject_key_id,omitempty"`
	AuthorityKeyID   string    `json:"authority_key_id,omitempty"`
	CAIssuers        []string  `json:"ca_issuers,omitempty" doc:"Where the issuer's certificate can be downloaded"`
	Anomalies        []Anomaly `json:"anomalies,omitempty"`
}

// Describe makes the description.
func (c *Certificate) Describe() Description {
	d := Description{
		Summary: c.Summary(), Subject: c.Subject.String(), IssuerName: c.Issuer.String(),
		Signature: c.SignatureAlgorithm.Name, KeyUsage: c.KeyUsage.Words(),
		SubjectKeyID: hex.EncodeToString(c.SubjectKeyID), AuthorityKeyID: hex.EncodeToString(c.AuthorityKeyID),
		CAIssuers: c.URLs(AccessCAIssuers), Anomalies: c.Anomalies,
	}
	for _, id := range c.ExtKeyUsage {
		d.ExtendedKeyUsage = append(d.ExtendedKeyUsage, id.Words())
	}
	return d
}

// Label is what people call the certificate: its subject's short name, or its
// first alternative name where the subject is empty.
func (c *Certificate) Label() string {
	if label := c.Subject.Label(); label != "" {
		return label
	}
	if names := c.HostNames(); len(names) > 0 {
		return names[0]
	}
	return "certificate " + c.fingerprint.String()[:16]
}

// SerialHex is the serial number in hexadecimal, lower case, two digits a byte.
func (c *Certificate) SerialHex() string {
	if c.Serial == nil {
		return ""
	}
	text := new(strings.Builder)
	if c.Serial.Sign() < 0 {
		text.WriteByte('-')
	}
	digits := hex.EncodeToString(c.Serial.Bytes())
	if digits == "" {
		digits = "00"
	}
	text.WriteString(digits)
	return text.String()
}

// PEM returns the certificate as a PEM block.
func (c *Certificate) PEM() string {
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw}))
}
