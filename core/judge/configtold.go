package judge

import (
	"fmt"
	"slices"
	"strings"

	"nurvik/core/facts"
	"nurvik/core/serverconf"
)

// configTold judges what a site is told of versions, suites and groups by the rules for what an address shows: the
// findings have the line that says so as their place.
func configTold(c *configured) []Finding {
	var out []Finding
	for _, s := range c.sites {
		if s.told == nil {
			continue
		}
		out = append(out, c.lists(s)...)
		if s.listError != nil {
			continue
		}
		out = append(out, c.versions(s)...)
		versions := s.Suites
		if len(s.VersionsBy) > 0 {
			versions = s.VersionsBy[0]
		}
		for _, f := range protoCurrent(s.told) {
			if len(s.told.versions) > 0 || s.listError == nil {
				out = append(out, c.placed(s, f, versions, ""))
			}
		}
		for _, rule := range []func(*address) []Finding{suiteWeak, suiteForwardSecrecy} {
			for _, f := range rule(s.told) {
				placed := c.placed(s, f, s.Suites, "")
				c.proposeSuites(s, &placed)
				out = append(out, placed)
			}
		}
		for _, f := range suiteOrder(s.told) {
			f.Subject = "order" // of every version alike: it is one setting
			value := ""
			if s.Order == facts.ClientOrder && s.OrderBy.Given() {
				value = switchedOn[strings.ToLower(s.OrderBy.Value)]
			}
			out = append(out, c.placed(s, f, orElse(s.OrderBy, s.Suites), value))
		}
		for _, rule := range []func(*address) []Finding{groupWeak, groupNoHybrid} {
			for _, f := range rule(s.told) {
				out = append(out, c.placed(s, f, orElse(s.Groups, s.Suites), ""))
			}
		}
	}
	return out
}

// switchedOn are the words for on where one for off stands.
var switchedOn = map[string]string{"off": "on", "no": "yes", "false": "true", "disable": "enable"}

func orElse(a, b facts.Setting) facts.Setting {
	if a.Given() {
		return a
	}
	return b
}

// placed makes a finding about an address one about a place of the configuration.
func (c *configured) placed(s *site, f Finding, x facts.Setting, value string) Finding {
	at := s.place(x)
	f.Subject = strings.Join([]string{at.File, s.whose(x), f.Subject}, " ")
	f.About = placeOf(at)
	f.Evidence.File, f.Evidence.Line = at.File, at.Line
	f.Message = strings.TrimSuffix(f.Message, ".")
	if x.Default {
		f.Message += fmt.Sprintf(" (%s is not set; the default is %q).", x.Directive, x.Value)
	} else {
		f.Message += fmt.Sprintf(" (%s).", x.Directive)
	}
	f.Edits = noEdits
	if severity := s.policy.Severity(f.Code); s.policy.Name != c.context.Policy.Name && severity != "" {
		f.Severity = Severity(severity) // where clients verify nothing, and nobody chose another policy
	}
	if value != "" && len(s.Identities) > 0 {
		c.set(&f, x, value, s.Identities[0].Certificate)
	}
	return f
}

// proposeSuites proposes another list of cipher suites, in the language of the server's library.
func (c *configured) proposeSuites(s *site, f *Finding) {
	x, value := s.Suites, ""
	switch {
	case s.Exclude.Given(): // Postfix takes suites out of lists of its own
		x, value = s.Exclude, "aNULL, kRSA"
		if !x.Default && x.Value != "" {
			value = x.Value + ", " + value
		}
	case c.facts.Library.Name == serverconf.OpenSSL:
		value = "ECDHE+AESGCM:ECDHE+CHACHA20"
	case c.facts.Library.Name == serverconf.GnuTLS:
		value = "SECURE128:-VERS-ALL:+VERS-TLS1.3:+VERS-TLS1.2:-RSA"
	}
	if value != "" && len(s.Identities) > 0 {
		c.set(f, x, value, s.Identities[0].Certificate)
	}
}

// versions tells of versions that should be off: those that are spoken, and those that are only told and that the
// library does not speak.
func (c *configured) versions(s *site) []Finding {
	protocols := s.policy.Protocols
	keep := wanted(protocols)
	var on, named []string
	for _, v := range s.Versions {
		severity, _ := unwanted(protocols, v)
		switch {
		case severity == None:
		case s.told.accepts(v):
			on = append(on, v)
		case slices.Contains(s.refused, v):
			named = append(named, v)
		}
	}
	by := s.Suites
	if len(s.VersionsBy) > 0 {
		by = s.VersionsBy[0]
	}
	tell := func(f *Finding) {
		f.Evidence.Versions = s.Versions
		f.Remedy = versionRemedy("", keep)
		kind, err := serverconf.Find(c.facts.Server)
		if err != nil || kind.TellVersions == nil {
			return
		}
		told, can := kind.TellVersions(serverconf.Wanted{TLS12: slices.Contains(keep, "TLS 1.2"),
			TLS13: slices.Contains(keep, "TLS 1.3")})
		if !can || len(s.Identities) == 0 {
			return
		}
		x := by
		if x.Directive != told.Directive {
			x = facts.Setting{Directive: told.Directive, Default: true}
			for _, other := range s.VersionsBy {
				if other.Directive == told.Directive {
					x = other
				}
			}
		}
		value := told.Value
		if kind.Keep != nil && !x.Default {
			value = kind.Keep(x.Value, value)
		}
		c.set(f, x, value, s.Identities[0].Certificate)
	}
	var out []Finding
	if len(on) > 0 {
		f := c.finding("config.obsolete-protocol", s.place(by), s.whose(by), "%s %s left on%s.", joined(on),
			isOrAre(on), defaultWords(by))
		tell(&f)
		out = append(out, f)
	}
	if len(named) > 0 {
		f := c.finding("config.in-name-only", s.place(by), s.whose(by),
			"%s %s switched on%s, and the TLS library does not speak %s at its "+
				"security level.", joined(named), isOrAre(named), defaultWords(by), itOrThem(named))
		tell(&f)
		out = append(out, f)
	}
	return out
}

func isOrAre(list []string) string {
	if len(list) == 1 {
		return "is"
	}
	return "are"
}

func itOrThem(list []string) string {
	if len(list) == 1 {
		return "it"
	}
	return "them"
}

func defaultWords(x facts.Setting) string {
	if x.Default {
		return fmt.Sprintf(" (%s is not set)", x.Directive)
	}
	return ""
}

// lists tells of lists that the library refuses whole, and of words in them that mean nothing to it.
func (c *configured) lists(s *site) []Finding {
	var out []Finding
	if s.listError != nil {
		f := c.finding("config.broken", s.place(s.Suites), s.whose(s.Suites),
			"The TLS library refuses the value of %s: %s.", s.Suites.Directive, s.listError)
		out = append(out, f)
	}
	if len(s.unknown) > 0 && !s.Suites.Default {
		f := c.finding("config.not-understood", s.place(s.Suites), s.whose(s.Suites)+" words",
			"%s has words that the TLS library does not know: %s.", s.Suites.Directive, firstFew(s.unknown))
		f.Severity = Note
		out = append(out, f)
	}
	if len(s.unknownGroups) > 0 {
		out = append(out, c.finding("config.broken", s.place(s.Groups), s.whose(s.Groups),
			"The TLS library does not know the groups %s of %s, and refuses the list.", firstFew(
				s.unknownGroups), s.Groups.Directive))
	}
	return out
}
