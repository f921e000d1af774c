// Package lifetime says where in its life a certificate is at a given time.
package lifetime

import (
	"time"

	"nurvik/core/pki"
)

// State is where in its life a certificate is. The stages exclude each other;
// a later stage replaces an earlier one.
type State int

// The stages of a life.
const (
	Unknown     State = iota // notBefore could not be read
	NotYetValid              // notBefore lies ahead
	Valid
	RenewalDue  // in the part of the life in which it should be replaced
	ExpiresSoon // nearly over
	Expired     // notAfter has passed, or cannot be read
)

// Seconds is a span of time in whole seconds. A time.Duration ends at 292
// years, and certificates may name any year from 0 to 9999.
type Seconds int64

// The units that people think in.
const (
	Minute Seconds = 60
	Hour           = 60 * Minute
	Day            = 24 * Hour
)

// Between is the span from one time to another, negative where that lies before it.
func Between(from, to time.Time) Seconds { return Seconds(to.Unix() - from.Unix()) }

// Windows say when a certificate that is still valid should be replaced.
type Windows struct {
	RenewalFraction float64 // renewal is due when less than this part of the lifetime is left
	SoonAtMost      Seconds // it expires soon when less than this is left …
	SoonFraction    float64 // … and less than this part of the lifetime
}

// Span is the certificate's lifetime: both ends belong to it (RFC 5280, 4.1.2.5).
func Span(c *pki.Certificate) Seconds { return Between(c.NotBefore, c.NotAfter) + 1 }

// Left is the time from the given moment until the certificate expires;
// negative afterwards.
func Left(c *pki.Certificate, at time.Time) Seconds { return Between(at, c.NotAfter) }

// ValidAt reports whether the moment lies within the validity, both ends
// included, exact to the second. A validity that cannot be read holds nothing.
func ValidAt(c *pki.Certificate, at time.Time) bool {
	at = at.Truncate(time.Second)
	if c.NotBefore.IsZero() || c.NotAfter.IsZero() {
		return false
	}
	return !at.Before(c.NotBefore) && !at.After(c.NotAfter)
}

// StateAt tells the stage at the given moment. An end that has passed counts
// whatever notBefore says, and one that cannot be read has passed: clients
// accept neither.
func StateAt(c *pki.Certificate, at time.Time, w Windows) State {
	at = at.Truncate(time.Second)
	left := Left(c, at)
	span := float64(Span(c))
	switch {
	case c.NotAfter.IsZero() || left < 0:
		return Expired
	case c.NotBefore.IsZero():
		return Unknown
	case at.Before(c.NotBefore):
		return NotYetValid
	case left < w.SoonAtMost && float64(left) < span*w.SoonFraction:
		return ExpiresSoon
	case float64(left) < span*w.RenewalFraction:
		return RenewalDue
	}
	return Valid
}

// DueFrom is when the renewal of a certificate is due, as the windows say.
func DueFrom(c *pki.Certificate, w Windows) time.Time {
	return time.Unix(c.NotAfter.Unix()-int64(w.RenewalFraction*float64(Span(c))), 0).UTC()
}
