// Package policy holds what is expected of endpoints and files: versions, keys,
// hashes and time windows, and how severe a departure is.
package policy

import (
	"strings"
	"time"

	"nurvik/core/limits"
)

// Policy is what is expected.
type Policy struct {
	Name       string            `yaml:"name"`
	About      string            `yaml:"about"`
	Inherits   string            `yaml:"inherits"`   // a built-in policy that holds where this one says nothing
	Severities map[string]string `yaml:"severities"` // by code or area.*: fault, risk, note, or off
	Waivers    []Waiver          `yaml:"waivers"`

	Time      Time      `yaml:"time"`
	Keys      Keys      `yaml:"keys"`
	Hashes    Levels    `yaml:"hashes"`
	Protocols Protocol  `yaml:"protocols"`
	Suites    Patterns  `yaml:"suites"`
	Groups    Groups    `yaml:"groups"`
	Lifetimes Lifetimes `yaml:"lifetimes"`

	Revocation Revocation    `yaml:"revocation"`
	Names      Coverage      `yaml:"names"`
	Limits     limits.Limits `yaml:"limits"` // of visits

	Chosen  bool `yaml:"-"` // named by the caller: every endpoint is judged by it
	Version int  `yaml:"-"` // of a policy that the service keeps; 0 for others
}

// Waiver takes a finding out of the verdict until a day.
type Waiver struct {
	Code   string `yaml:"code" json:"-"`
	Target string `yaml:"target" json:"-"` // endpoint or file; "" for all
	Reason string `yaml:"reason" json:"reason"`
	Until  string `yaml:"until" json:"until"` // a date, the last day included
	By     string `yaml:"-" json:"by,omitempty" doc:"Who waived it in the service; the policy where it is absent"`
}

// Holds reports whether the waiver is about the finding of the target, and counts at the time.
func (w Waiver) Holds(code, target string, at time.Time) bool {
	until, err := time.Parse(time.DateOnly, w.Until)
	return err == nil && w.Code == code && (w.Target == "" || w.Target == target) && at.Before(until.AddDate(0, 0, 1))
}

// Off is the severity of what is not judged.
const Off = "off"

// Severity is what the policy makes of the code, "" where it says nothing. A
// code counts before its area.
func (p Policy) Severity(code string) string {
	if s, ok := p.Severities[code]; ok {
		return s
	}
	area, _, _ := strings.Cut(code, ".")
	return p.Severities[area+".*"]
}

// Waived returns the waiver that holds for the finding at the time.
func (p Policy) Waived(code, target string, at time.Time) *Waiver {
	for _, w := range p.Waivers {
		if w.Holds(code, target, at) {
			return &w
		}
	}
	return nil
}

// Opportunistic is the policy of endpoints whose clients check nobody: mail
// between servers, on port 25, and XMPP between servers (RFC 7435).
const Opportunistic = "opportunistic"

// Default is the policy of endpoints that anyone may visit.
const Default = "open-web"
