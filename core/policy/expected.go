package policy

import (
	"path"
	"slices"
	"sync"
	"time"

	"nurvik/core/lifetime"
)

// Time are the windows before expiry.
type Time struct {
	SoonDays        int     `yaml:"soon-days"`        // expires soon: fewer days left than this …
	SoonFraction    float64 `yaml:"soon-fraction"`    // … and less than this part of the lifetime
	RenewalFraction float64 `yaml:"renewal-fraction"` // renewal due: less than this part of the lifetime
}

// Revocation says when what issuers say of revocation is too old.
type Revocation struct {
	StaleDays int `yaml:"stale-days"` // of a CRL or OCSP response that does not say when the next one comes
}

// Windows converts the settings for package lifetime.
func (t Time) Windows() lifetime.Windows {
	return lifetime.Windows{
		SoonAtMost:   lifetime.Seconds(t.SoonDays) * lifetime.Day,
		SoonFraction: t.SoonFraction, RenewalFraction: t.RenewalFraction,
	}
}

// Lifetimes are the longest lifetimes of leaves.
type Lifetimes struct {
	MostDays int             `yaml:"most-days"` // of every leaf; 0 for any
	Public   []LifetimeLimit `yaml:"public"`    // of leaves under public anchors, by the date of issue
}

// LifetimeLimit holds for certificates that were issued from a day on.
type LifetimeLimit struct {
	From string `yaml:"from"` // a date, UTC
	Days int    `yaml:"days"`
}

// PublicDays is the limit for a leaf under a public anchor that was issued at
// the time, 0 for none.
func (l Lifetimes) PublicDays(issued time.Time) int {
	days, since := 0, time.Time{}
	for _, limit := range l.Public {
		from, err := time.Parse(time.DateOnly, limit.From)
		if err == nil && !issued.Before(from) && !from.Before(since) {
			days, since = limit.Days, from
		}
	}
	return days
}

// Keys are the least sizes, in bits: of the modulus, or of the curve's field.
type Keys struct {
	ModulusFault int      `yaml:"modulus-fault-under"`
	ModulusRisk  int      `yaml:"modulus-risk-under"`
	CurveFault   int      `yaml:"curve-fault-under"`
	Allowed      []string `yaml:"allowed"` // kinds and curves, such as RSA, P-256, Ed25519; none means any
}

// Allows reports whether a key of the kind, on the curve where it has one, is allowed.
func (k Keys) Allows(kind, curve string) bool {
	return len(k.Allowed) == 0 || slices.Contains(k.Allowed, kind) || curve != "" && slices.Contains(k.Allowed, curve)
}

// Levels lists names by the severity of meeting them.
type Levels struct {
	Fault []string `yaml:"fault"`
	Risk  []string `yaml:"risk"`
}

// Protocol lists protocol versions by their usual names.
type Protocol struct {
	Obsolete Levels   `yaml:"obsolete"`
	Current  []string `yaml:"current"`  // at least one of them must be accepted
	Required []string `yaml:"required"` // each of them must be accepted
	Allowed  []string `yaml:"allowed"`  // no other may be accepted; none means any
}

// Patterns lists names by patterns, in which * stands for any part.
type Patterns struct {
	Fault   []string `yaml:"fault"`
	Risk    []string `yaml:"risk"`
	Allowed []string `yaml:"allowed"` // whatever matches none of them is a risk; none means any

	met *sync.Map // severities by name, so that each name is compared once, for however many endpoints
}

// Severity is what meeting the name means: "fault", "risk", or "" for nothing.
func (p Patterns) Severity(name string) string {
	if p.met == nil {
		return p.severity(name)
	}
	if known, ok := p.met.Load(name); ok {
		return known.(string)
	}
	severity := p.severity(name)
	p.met.Store(name, severity)
	return severity
}

func (p Patterns) severity(name string) string {
	switch {
	case matches(p.Fault, name):
		return "fault"
	case matches(p.Risk, name), len(p.Allowed) > 0 && !matches(p.Allowed, name):
		return "risk"
	}
	return ""
}

func matches(patterns []string, name string) bool {
	return slices.ContainsFunc(patterns, func(pattern string) bool {
		ok, _ := path.Match(pattern, name) // patterns were checked
		return ok
	})
}

// Groups are the groups for key agreement.
type Groups struct {
	Patterns     `yaml:",inline"`
	ModulusFault int `yaml:"modulus-fault-under"` // bits of a finite field
	ModulusRisk  int `yaml:"modulus-risk-under"`
}

// Coverage is what certificates must cover.
type Coverage struct {
	Required []string `yaml:"required"` // by each endpoint's certificate, beside its own name
}
