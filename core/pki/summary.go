package pki

import (
	"bytes"
	"time"
	"unique"
)

// Summary is what a certificate, certificate request, CRL or key is known by,
// wherever one is shown or listed. What does not apply is empty.
type Summary struct {
	SHA256    Fingerprint `json:"sha256,omitzero" doc:"SHA-256 of the DER; absent for keys"`
	SPKI      Fingerprint `json:"spki,omitzero" doc:"SHA-256 of the SubjectPublicKeyInfo"`
	Label     string      `json:"label,omitempty" doc:"Short name of the subject; of a key, whose it is"`
	Names     []string    `json:"names,omitempty" doc:"Host names and addresses of the subject alternative names"`
	Issuer    string      `json:"issuer,omitempty" doc:"Short name of the issuer"`
	Serial    string      `json:"serial,omitempty" doc:"Hexadecimal, lower case, without separators"`
	NotBefore time.Time   `json:"not_before,omitzero"`
	NotAfter  time.Time   `json:"not_after,omitzero"`
	CA        bool        `json:"ca,omitempty"`
	Key       string      `json:"key,omitempty" doc:"Such as RSA 2048 or EC P-256"`
}

// Summary sums up a certificate.
func (c *Certificate) Summary() Summary {
	s := c.PublicKey.Summary()
	s.SHA256, s.Label, s.Names, s.Issuer, s.Serial = c.fingerprint, c.Label(), c.HostNames(),
		unique.Make(c.Issuer.Label()).Value(),
		c.SerialHex()
	s.NotBefore, s.NotAfter, s.CA = c.NotBefore, c.NotAfter, c.IsCA()
	return s
}

// Summary sums up a certificate request.
func (r *Request) Summary() Summary {
	s := r.PublicKey.Summary()
	s.SHA256, s.Label, s.Names = FingerprintOf(r.Raw), r.Label(), r.Wanted.HostNames()
	return s
}

// Summary sums up a CRL: it is valid from its issue to its next update.
func (l *RevocationList) Summary() Summary {
	return Summary{SHA256: FingerprintOf(l.Raw), Label: l.Issuer.Label(), Issuer: l.Issuer.Label(),
		NotBefore: l.ThisUpdate, NotAfter: l.NextUpdate}
}

// Summary sums up a key.
func (k PublicKey) Summary() Summary {
	return Summary{SPKI: k.Fingerprint(), Key: unique.Make(k.String()).Value()}
}

// Brief is the summary with what judging and pairing need beside it.
type Brief struct {
	Summary
	SelfIssued bool         // subject and issuer are the same name
	usual      *Fingerprint // of the key's usual form, where it is written in another
	Anomalies  []Anomaly
	spki       []byte // a part of the DER, so that it costs no memory
}

// Detach makes the brief independent of the bytes that it was made of.
func (b *Brief) Detach() { b.spki = bytes.Clone(b.spki) }

// PublicKey decodes the key anew: briefs are many, and few ask for it.
func (b *Brief) PublicKey() PublicKey {
	k, _ := ParsePublicKey(b.spki) // as far as it can be read
	return k
}

// Match identifies the key as PublicKey.Match does; zero where there is none.
func (b *Brief) Match() Fingerprint {
	if b.usual != nil {
		return *b.usual
	}
	return b.SPKI
}

// Brief makes the brief of a certificate.
func (c *Certificate) Brief() *Brief {
	s := c.Summary()
	return &Brief{Summary: s, SelfIssued: c.SelfIssued(), spki: c.PublicKey.Raw, usual: c.PublicKey.unlike(),
		Anomalies: c.Anomalies}
}

// Brief makes the brief of a certificate request.
func (r *Request) Brief() *Brief {
	s := r.Summary()
	return &Brief{Summary: s, spki: r.PublicKey.Raw, usual: r.PublicKey.unlike(), Anomalies: r.Anomalies}
}

// Brief makes the brief of a key.
func (k PublicKey) Brief() *Brief {
	return &Brief{Summary: k.Summary(), spki: k.Raw, usual: k.unlike()}
}
