package pki

import (
	"encoding/hex"
	"encoding/pem"
	"strings"
	"time"
)

// Description is what people and programs are told of a certificate. It is
// made from the DER whenever it is needed and never judged.
type Description struct {
	SHA256           Fingerprint `json:"sha256" doc:"SHA-256 of the DER"`
	SPKISHA256       Fingerprint `json:"spki_sha256" doc:"SHA-256 of the SubjectPublicKeyInfo"`
	Subject          string      `json:"subject"`
	Label            string      `json:"label" doc:"Short name of the subject"`
	Issuer           string      `json:"issuer"`
	IssuerLabel      string      `json:"issuer_label" doc:"Short name of the issuer"`
	Serial           string      `json:"serial" doc:"Hexadecimal, lower case, without separators"`
	Names            []string    `json:"names" doc:"Host names and addresses of the alternative names"`
	NotBefore        time.Time   `json:"not_before"`
	NotAfter         time.Time   `json:"not_after"`
	Key              string      `json:"key" doc:"Such as RSA 2048 or EC P-256"`
	Signature        string      `json:"signature" doc:"Algorithm of the signature"`
	CA               bool        `json:"ca"`
	KeyUsage         []string    `json:"key_usage,omitempty"`
	ExtendedKeyUsage []string    `json:"extended_key_usage,omitempty"`
	SubjectKey       string      `json:"subject_key_id,omitempty"`
	IssuerKey        string      `json:"authority_key_id,omitempty"`
	IssuersAt        []string    `json:"ca_issuers,omitempty" doc:"Where the issuer's certificate can be had"`
	Anomalies        []Anomaly   `json:"anomalies,omitempty"`
}

// Describe makes the description.
func (c *Certificate) Describe() Description {
	d := Description{
		SHA256: c.fingerprint, SPKISHA256: c.PublicKey.Fingerprint(),
		Subject: c.Subject.String(), Label: c.Label(), Issuer: c.Issuer.String(), IssuerLabel: c.Issuer.Label(),
		Serial: c.SerialHex(), Names: c.HostNames(), NotBefore: c.NotBefore, NotAfter: c.NotAfter,
		Key: c.PublicKey.String(), Signature: c.SignatureAlgorithm.Name, CA: c.IsCA(), KeyUsage: c.KeyUsage.Words(),
		SubjectKey: hex.EncodeToString(c.SubjectKeyID), IssuerKey: hex.EncodeToString(c.AuthorityKeyID),
		IssuersAt: c.URLs(AccessCAIssuers), Anomalies: c.Anomalies,
	}
	if d.Names == nil {
		d.Names = []string{}
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
