package chain

import (
	"time"

	"nurvik/core/lifetime"
	"nurvik/core/pki"
	"nurvik/core/trust"
)

// Reason is why a path is not valid although its names fit.
type Reason string

// The reasons, in the words of RFC 5280, section 6.1.
const (
	BadSignature    Reason = "bad-signature"    // the right key, and a signature that does not verify under it
	Unverifiable    Reason = "unverifiable"     // a signature that cannot be computed here
	NotAuthority    Reason = "not-an-authority" // CA flag or certificate-signing usage missing (6.1.4 k, n)
	PathLength      Reason = "path-length"      // more intermediates than an authority allows (6.1.4 m)
	UnknownCritical Reason = "unknown-critical" // a critical extension that cannot be processed (6.1.4 o, 6.1.5 e)

	NameNotAllowed   Reason = "name-constraint" // a name outside of what an authority above allows (6.1.3 b, c)
	UsageNotAllowed  Reason = "usage"           // not for what the path is used for (4.2.1.12)
	PolicyNotAllowed Reason = "policy"          // a policy is required, and none is valid (6.1.3 f, 6.1.5 g)

	IsRevoked Reason = "revoked" // its issuer has revoked it (6.1.3 a 3)

	NotComputed Reason = "not-computed" // the budget did not reach to find out
)

// Failure is one reason and the certificate that it is about.
type Failure struct {
	Reason      Reason
	Certificate *pki.Certificate
	Detail      string
}

// Path is a sequence in which each certificate is certified by the next, leaf first.
type Path struct {
	Certificates []*pki.Certificate // with the anchor last where there is one
	Anchor       *trust.Anchor      // nil when the path ends without one
	Failures     []Failure
	Borrowed     int       // certificates that came from what is known and not from what was given
	OutOfDate    int       // certificates, the anchor included, that are not valid at the time asked
	Policies     []pki.OID // for which it is valid, of those accepted (RFC 9618, 5.4); none where it has no anchor
	Weak         int       // signatures below the anchor with a hash that is broken
}

// Valid reports whether the path ends in an anchor without a failure.
func (p Path) Valid() bool { return p.Anchor != nil && len(p.Failures) == 0 }

// Below returns the path without its anchor, unless the leaf is itself the anchor.
func (p Path) Below() []*pki.Certificate {
	if p.Anchor != nil && len(p.Certificates) > 1 {
		return p.Certificates[:len(p.Certificates)-1]
	}
	return p.Certificates
}

// Ends tells when the path breaks: which of its certificates, the anchor
// included, is the first to expire, and when. It is nil where no end is known.
func (p Path) Ends() (first *pki.Certificate, at time.Time) {
	for _, c := range p.Certificates {
		if !c.NotAfter.IsZero() && (first == nil || c.NotAfter.Before(at)) {
			first, at = c, c.NotAfter
		}
	}
	return first, at
}

// FirstOutOfDate returns the certificate, from the leaf up, that is not valid
// at the time; nil when all are.
func (p Path) FirstOutOfDate(at time.Time) *pki.Certificate {
	for _, c := range p.Certificates {
		if !lifetime.ValidAt(c, at) {
			return c
		}
	}
	return nil
}

// better orders paths: with an anchor, without failures, in date, from what
// was given, without broken hashes, the shorter. Without an anchor the longer says more.
func better(a, b Path) bool {
	if (a.Anchor != nil) != (b.Anchor != nil) {
		return a.Anchor != nil
	}
	for _, pair := range [][2]int{{len(a.Failures), len(b.Failures)}, {a.OutOfDate, b.OutOfDate},
		{a.Borrowed, b.Borrowed}, {a.Weak, b.Weak}} {
		if pair[0] != pair[1] {
			return pair[0] < pair[1]
		}
	}
	if a.Anchor == nil {
		return len(a.Certificates) > len(b.Certificates)
	}
	return len(a.Certificates) < len(b.Certificates)
}
