package pki

import "time"

// Brief is what sorting needs of a certificate, a request or a key, so that it
// need not be decoded again.
type Brief struct {
	SHA256     Fingerprint // of the DER; zero for keys
	Label      string
	Names      []string
	Serial     string
	NotBefore  time.Time // of certificates
	NotAfter   time.Time
	Authority  bool
	SelfIssued bool // subject and issuer are the same name
	Key        PublicKey
	KeyText    string      // such as EC P-256
	Match      Fingerprint // of the key
	Anomalies  []Anomaly
}

// Brief makes the brief of a certificate.
func (c *Certificate) Brief() *Brief {
	return &Brief{SHA256: c.fingerprint, Label: c.Label(), Names: c.HostNames(), Serial: c.SerialHex(),
		NotBefore: c.NotBefore, NotAfter: c.NotAfter,
		Authority: c.IsCA(), SelfIssued: c.SelfIssued(), Key: c.PublicKey, KeyText: c.PublicKey.String(),
		Match: c.PublicKey.Match(), Anomalies: c.Anomalies}
}

// Brief makes the brief of a request.
func (r *Request) Brief() *Brief {
	return &Brief{SHA256: FingerprintOf(r.Raw), Label: r.Label(), Names: r.Wanted.HostNames(), Key: r.PublicKey,
		KeyText: r.PublicKey.String(), Match: r.PublicKey.Match(), Anomalies: r.Anomalies}
}

// Brief makes the brief of a key.
func (k PublicKey) Brief() *Brief { return &Brief{Key: k, KeyText: k.String(), Match: k.Match()} }
