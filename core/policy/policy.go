// Package policy holds what is expected of endpoints and files: versions, keys,
// hashes and time windows, and how severe a departure is.
package policy

import (
	"bytes"
	"embed"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"nurvik/core/limits"
	"nurvik/core/naming"
	"nurvik/core/strictyaml"
)

// Policy is what is expected.
type Policy struct {
	Name       string            `yaml:"name"`
	About      string            `yaml:"about"`
	Inherits   string            `yaml:"inherits"`   // a built-in policy that holds where this one says nothing
	Severities map[string]string `yaml:"severities"` // by code or area.*: fault, risk, note, or off
	Waivers    []Waiver          `yaml:"waivers"`

	Time      Time          `yaml:"time"`
	Keys      Keys          `yaml:"keys"`
	Hashes    Levels        `yaml:"hashes"`
	Protocols Protocol      `yaml:"protocols"`
	Suites    Patterns      `yaml:"suites"`
	Groups    Groups        `yaml:"groups"`
	Lifetimes Lifetimes     `yaml:"lifetimes"`
	Names     Coverage      `yaml:"names"`
	Limits    limits.Limits `yaml:"limits"` // of visits

	Chosen bool `yaml:"-"` // named by the caller: every endpoint is judged by it
}

// Waiver takes a finding out of the verdict until a day.
type Waiver struct {
	Code   string `yaml:"code" json:"-"`
	Target string `yaml:"target" json:"-"` // endpoint or file; "" for all
	Reason string `yaml:"reason" json:"reason"`
	Until  string `yaml:"until" json:"until"` // a date, the last day included
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
		until, err := time.Parse(time.DateOnly, w.Until)
		if err == nil && w.Code == code && (w.Target == "" || w.Target == target) && at.Before(until.AddDate(0, 0, 1)) {
			return &w
		}
	}
	return nil
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
	return Parse(name+".yaml", data)
}

// Load returns the built-in policy of the name, or reads the file of that path.
func Load(nameOrPath string) (Policy, error) {
	if slices.Contains(Names(), nameOrPath) {
		return Builtin(nameOrPath)
	}
	data, err := os.ReadFile(nameOrPath)
	if errors.Is(err, os.ErrNotExist) {
		return Policy{}, fmt.Errorf("there is no policy and no file %q; built in are: %s", nameOrPath, strings.Join(Names(), ", "))
	}
	if err != nil {
		return Policy{}, err
	}
	return Parse(nameOrPath, data)
}

// Parse reads a policy, with what it inherits beneath. Errors name file and line.
func Parse(path string, data []byte) (Policy, error) {
	var own Policy
	if err := strictyaml.Decode(path, data, &own); err != nil {
		return Policy{}, err
	}
	p := Policy{}
	if own.Inherits != "" {
		var err error
		if p, err = Builtin(own.Inherits); err != nil {
			return Policy{}, &strictyaml.Error{Name: path, Text: "inherits: " + err.Error()}
		}
		p.Name, p.About, p.Inherits = "", "", ""
	}
	if err := strictyaml.Decode(path, data, &p); err != nil { // over what is inherited, key by key
		return Policy{}, err
	}
	return p, p.check(path, data)
}

// check looks for what YAML cannot know.
func (p Policy) check(path string, data []byte) error {
	var failures []error
	fail := func(about, format string, args ...any) {
		failures = append(failures, &strictyaml.Error{Name: path, Line: lineOf(data, about), Text: fmt.Sprintf(format, args...)})
	}
	if p.Name == "" {
		fail("", "the policy has no name")
	}
	if len(p.Protocols.Current) == 0 {
		fail("", "protocols.current is empty; write inherits: open-web, or name the versions")
	}
	for code, severity := range p.Severities {
		if !slices.Contains([]string{"fault", "risk", "note", Off}, severity) {
			fail(code, "severities: %s is %q; there are fault, risk, note and off", code, severity)
		}
	}
	if err := p.Limits.Check(); err != nil {
		fail("limits", "limits: %v", err)
	}
	for i, w := range p.Waivers {
		if _, err := time.Parse(time.DateOnly, w.Until); err != nil || w.Code == "" || w.Reason == "" {
			fail("waivers", "waiver %d needs a code, a reason and until, a date such as 2027-03-31", i+1)
		}
	}
	for _, name := range p.Names.Required {
		if _, err := naming.Parse(name); err != nil {
			fail(name, "names.required: %v", err)
		}
	}
	p.checkLists(fail)
	return errors.Join(failures...)
}

// lineOf finds the first line with the text, from 1; 0 for none.
func lineOf(data []byte, text string) int {
	i := bytes.Index(data, []byte(text))
	if text == "" || i < 0 {
		return 0
	}
	return 1 + bytes.Count(data[:i], []byte("\n"))
}

// Opportunistic is the policy of endpoints whose clients check nobody: mail
// between servers, on port 25, and XMPP between servers (RFC 7435).
const Opportunistic = "opportunistic"

// For is the policy that an endpoint of the scheme and port is judged by: the
// opportunistic one where clients check nobody, unless another was asked for.
func For(p Policy, scheme string, port uint16) Policy {
	if p.Chosen || p.Name != Default || scheme != "xmpp-server" && (scheme != "smtp" || port != 25) {
		return p
	}
	if own, err := Builtin(Opportunistic); err == nil {
		return own
	}
	return p
}

// Default is the policy of endpoints that anyone may visit.
const Default = "open-web"
