// Package policy holds what is expected of endpoints and files: versions, keys,
// hashes and time windows, and how severe a departure is.
package policy

import (
	"embed"
	"fmt"
	"slices"
	"strings"
	"time"

	"nurvik/core/lifetime"
	"nurvik/core/strictyaml"
)

// Policy is what is expected.
type Policy struct {
	Name      string   `yaml:"name"`
	About     string   `yaml:"about"`
	Time      Time     `yaml:"time"`
	Keys      Keys     `yaml:"keys"`
	Hashes    Levels   `yaml:"hashes"`
	Protocols Protocol `yaml:"protocols"`
}

// Time are the windows before expiry.
type Time struct {
	SoonDays        int     `yaml:"soon-days"`        // expires soon: fewer days left than this …
	SoonFraction    float64 `yaml:"soon-fraction"`    // … and less than this part of the lifetime
	RenewalFraction float64 `yaml:"renewal-fraction"` // renewal due: less than this part of the lifetime
}

// Windows converts the settings for package lifetime.
func (t Time) Windows() lifetime.Windows {
	return lifetime.Windows{
		SoonAtMost:   time.Duration(t.SoonDays) * 24 * time.Hour,
		SoonFraction: t.SoonFraction, RenewalFraction: t.RenewalFraction,
	}
}

// Keys are the least sizes, in bits: of the modulus, or of the curve's field.
type Keys struct {
	ModulusFault int `yaml:"modulus-fault-under"`
	ModulusRisk  int `yaml:"modulus-risk-under"`
	CurveFault   int `yaml:"curve-fault-under"`
}

// Levels lists names by the severity of meeting them.
type Levels struct {
	Fault []string `yaml:"fault"`
	Risk  []string `yaml:"risk"`
}

// Protocol lists protocol versions by their usual names.
type Protocol struct {
	Obsolete Levels   `yaml:"obsolete"`
	Current  []string `yaml:"current"` // at least one of them must be accepted
}

//go:embed *.yaml
var builtin embed.FS

// Names lists the built-in policies.
func Names() []string {
	entries, _ := builtin.ReadDir(".") // an embedded folder can always be read
	var names []string
	for _, e := range entries {
		names = append(names, strings.TrimSuffix(e.Name(), ".yaml"))
	}
	return names
}

// Builtin returns the built-in policy of the name. The error lists those there are.
func Builtin(name string) (Policy, error) {
	if !slices.Contains(Names(), name) {
		return Policy{}, fmt.Errorf("there is no policy %q; there is: %s", name, strings.Join(Names(), ", "))
	}
	data, err := builtin.ReadFile(name + ".yaml")
	if err != nil {
		return Policy{}, err
	}
	var p Policy
	return p, strictyaml.Decode(name+".yaml", data, &p)
}

// Default is the policy of endpoints that anyone may visit.
const Default = "open-web"
