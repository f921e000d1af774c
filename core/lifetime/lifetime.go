// Package lifetime says where in its life a certificate is at a given time.
package lifetime

import (
	"math"
	"time"

	"nurvik/core/pki"
)

// State is where in its life a certificate is. The stages exclude each other;
// a later stage replaces an earlier one.
type State int

// The stages of a life.
const (
	Unknown     State = iota // a date could not be read
	NotYetValid              // notBefore lies ahead
	Valid
	RenewalDue  // in the part of the life in which it should be replaced
	ExpiresSoon // nearly over
	Expired     // notAfter has passed
)

// Windows say when a certificate that is still valid should be replaced.
type Windows struct {
	RenewalFraction float64       // renewal is due when less than this part of the lifetime is left
	SoonAtMost      time.Duration // it expires soon when less than this is left …
	SoonFraction    float64       // … and less than this part of the lifetime
}

// Span is the certificate's lifetime: both ends belong to it (RFC 5280, 4.1.2.5).
// What is longer than a Duration can be, 292 years, is Longest.
func Span(c *pki.Certificate) time.Duration {
	if d := c.NotAfter.Sub(c.NotBefore); d < Longest-time.Second {
		return d + time.Second
	}
	return Longest
}

// Longest is the longest Duration: times further apart are that far from each other.
const Longest time.Duration = math.MaxInt64

// Left is the time from the given moment until the certificate expires;
// negative afterwards.
func Left(c *pki.Certificate, at time.Time) time.Duration { return c.NotAfter.Sub(at) }

// ValidAt reports whether the moment lies within the validity, both ends
// included, exact to the second.
func ValidAt(c *pki.Certificate, at time.Time) bool {
	at = at.Truncate(time.Second)
	if c.NotBefore.IsZero() || c.NotAfter.IsZero() { // nobody knows
		return false
	}
	return !at.Before(c.NotBefore) && !at.After(c.NotAfter)
}

// StateAt tells the stage at the given moment.
func StateAt(c *pki.Certificate, at time.Time, w Windows) State {
	at = at.Truncate(time.Second)
	left := Left(c, at)
	span := float64(Span(c))
	switch {
	case c.NotBefore.IsZero() || c.NotAfter.IsZero():
		return Unknown
	case at.Before(c.NotBefore):
		return NotYetValid
	case left < 0:
		return Expired
	case left < w.SoonAtMost && float64(left) < span*w.SoonFraction:
		return ExpiresSoon
	case float64(left) < span*w.RenewalFraction:
		return RenewalDue
	}
	return Valid
}
