package policy

import (
	"bytes"
	"errors"
	"fmt"
	"nurvik/core/naming"
	"nurvik/core/strictyaml"
	"nurvik/core/tlswire"
	"slices"
	"time"
)

// checkLists looks for versions, suites and groups that are not known. Each
// failure comes with the text in the file that it is about.
func (p Policy) checkLists(fail func(about, format string, args ...any)) {
	known := make([]string, len(tlswire.Versions))
	for i, v := range tlswire.Versions {
		known[i] = v.String()
	}
	for key, list := range map[string][]string{"obsolete.fault": p.Protocols.Obsolete.Fault,
		"obsolete.risk": p.Protocols.Obsolete.Risk,
		"current":       p.Protocols.Current, "required": p.Protocols.Required, "allowed": p.Protocols.Allowed} {
		for _, version := range list {
			if !slices.Contains(known, version) {
				fail(version, "protocols.%s: %q is no version; there are %v", key, version, known)
			}
		}
	}
	for _, version := range p.Protocols.Required {
		if version != tlswire.TLS12.String() && version != tlswire.TLS13.String() {
			fail(version, "protocols.required: only TLS 1.2 and TLS 1.3 can be required, not %s", version)
		}
	}
	suites, groups := make([]string, 0, 400), make([]string, 0, 64)
	for _, s := range tlswire.Suites() {
		suites = append(suites, s.String())
	}
	for _, g := range tlswire.Groups() {
		groups = append(groups, g.String())
	}
	for _, list := range []struct {
		key   string
		p     Patterns
		among []string
		what  string
	}{{"suites", p.Suites, suites, "cipher suite"}, {"groups", p.Groups.Patterns, groups, "group"}} {
		for _, pattern := range slices.Concat(list.p.Fault, list.p.Risk, list.p.Allowed) {
			if !slices.ContainsFunc(list.among, func(name string) bool { return matches([]string{pattern}, name) }) {
				fail(pattern,
					"%s: no %s has a name like %q; names are those of IANA's registry, and * stands for any part",
					list.key, list.what, pattern)
			}
		}
	}
	for _, limit := range p.Lifetimes.Public {
		if _, err := time.Parse(time.DateOnly, limit.From); err != nil || limit.Days <= 0 {
			fail(limit.From, "lifetimes.public: %s needs a date such as 2027-03-15 and days",
				fmt.Sprintf("{from: %q, days: %d}", limit.From, limit.Days))
		}
	}
}

// check looks for what YAML cannot know.
func (p Policy) check(path string, data []byte) error {
	var failures []error
	fail := func(about, format string, args ...any) {
		failures = append(failures, &strictyaml.Error{Name: path, Line: lineOf(data, about),
			Text: fmt.Sprintf(format, args...)})
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
