package judge

import (
	"fmt"
	"slices"
	"strings"

	"nurvik/core/facts"
	"nurvik/core/policy"
	"nurvik/core/tlswire"
)

// acceptedSuite is a suite with the version that it is accepted in.
type acceptedSuite struct {
	name    string
	version string
	p       tlswire.SuiteProperties
}

// suitesOf lists the suites of SSL 3.0 to TLS 1.3. Those of SSL 2.0 need no word of their own.
func suitesOf(o facts.Observation) []acceptedSuite {
	var out []acceptedSuite
	for _, v := range o.Versions {
		for _, name := range v.Suites {
			if s, ok := tlswire.SuiteNamed(name); ok {
				out = append(out, acceptedSuite{name, v.Name, s.Properties()})
			}
		}
	}
	return out
}

// weakness is the code that a suite deserves, the worst alone, and its severity.
func (s acceptedSuite) weakness(expected policy.Patterns) (code string, severity Severity) {
	switch {
	case s.p.Cipher == "none":
		return "suite.null", Fault
	case s.p.Authentication == "anonymous":
		return "suite.anonymous", Fault
	case s.p.Export:
		return "suite.export", Fault
	}
	switch expected.Severity(s.name) {
	case "fault":
		return "suite.weak-cipher", Fault
	case "risk":
		return "suite.weak-cipher", Risk
	}
	return "", None
}

// checkSuites judges the cipher suites of an address.
func checkSuites(b *bundle, o facts.Observation) {
	all := suitesOf(o)
	weak := map[string][]string{}
	severities := map[string]Severity{}
	weakByItself := false // and not by a policy's own list alone
	for _, s := range all {
		code, severity := s.weakness(b.context.Policy.Suites)
		if code == "" {
			continue
		}
		weakByItself = weakByItself || s.p.Status == tlswire.Weak || s.p.Status == tlswire.Broken
		if text := s.name + " in " + s.version; !slices.Contains(weak[code], text) {
			weak[code] = append(weak[code], text)
		}
		if known, ok := severities[code]; !ok || severity.AtLeast(known) {
			severities[code] = severity
		}
	}
	words := map[string]string{
		"suite.null": "Suites without encryption are accepted: %s.", "suite.anonymous": "Suites without authentication are accepted: %s.",
		"suite.export": "Suites that were weakened for export are accepted: %s.", "suite.weak-cipher": "Suites with weak ciphers are accepted: %s.",
	}
	for _, code := range []string{"suite.null", "suite.anonymous", "suite.export", "suite.weak-cipher"} {
		if list := weak[code]; len(list) > 0 {
			f := found(code, "suites", "cipher suites", words[code], some(list))
			f.Severity, f.Evidence.Observations = severities[code], list
			if code == "suite.weak-cipher" && !weakByItself {
				f.Message, f.Settings = fmt.Sprintf("Suites that the policy does not allow are accepted: %s.", some(list)), noLines
				f.Remedy = "Leave them out of the list of ciphers (nginx ssl_ciphers, Apache SSLCipherSuite, HAProxy ssl-default-bind-ciphers, Postfix smtpd_tls_exclude_ciphers, Dovecot ssl_cipher_list), and reload the server."
			}
			b.add(f)
		}
	}
	checkForwardSecrecy(b, all)
	checkOrderOfSuites(b, o)
}

// some names the first few of a list.
func some(list []string) string {
	const most = 3
	if len(list) <= most {
		return strings.Join(list, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(list[:most], ", "), len(list)-most)
}

func checkForwardSecrecy(b *bundle, all []acceptedSuite) {
	var without []string
	with := false
	for _, s := range all {
		if code, _ := s.weakness(b.context.Policy.Suites); code == "suite.null" || code == "suite.anonymous" || code == "suite.export" {
			continue // told by a stronger code
		}
		with = with || s.p.ForwardSecrecy
		if !s.p.ForwardSecrecy && s.p.Authentication != "PSK" {
			without = append(without, s.name+" in "+s.version)
		}
	}
	if len(without) == 0 {
		return
	}
	f := found("suite.no-forward-secrecy", "suites", "cipher suites", "No suite that is accepted has forward secrecy: %s.", some(without))
	if with {
		f = found("suite.no-forward-secrecy", "suites", "cipher suites", "Some suites that are accepted have no forward secrecy: %s.", some(without))
		f.Severity = Note
	}
	f.Evidence.Observations = without
	b.add(f)
}

// checkOrderOfSuites judges the order where something weak is accepted, which the order can keep from being used.
func checkOrderOfSuites(b *bundle, o facts.Observation) {
	for _, v := range o.Versions {
		firstWeak, firstGood := -1, -1
		for i, name := range v.Suites {
			s, ok := tlswire.SuiteNamed(name)
			if !ok {
				continue
			}
			if code, _ := (acceptedSuite{name: name, p: s.Properties()}).weakness(b.context.Policy.Suites); code != "" {
				if firstWeak < 0 {
					firstWeak = i
				}
			} else {
				firstGood = i // the last of them: a weak one before it comes too early
			}
		}
		if firstWeak < 0 || firstGood < 0 {
			continue
		}
		switch {
		case v.Order == facts.ClientOrder:
			b.add(found("suite.client-decides", v.Name, v.Name, "In %s the client's order of preference counts, and weak suites are accepted: %s.", v.Name, v.Suites[firstWeak]))
		case v.Order != "" && firstWeak < firstGood:
			b.add(found("suite.weak-first", v.Name, v.Name, "In %s the weak suite %s is preferred to better ones.", v.Name, v.Suites[firstWeak]))
		}
	}
}

// checkGroups judges the groups in which keys are agreed.
func checkGroups(b *bundle, o facts.Observation) {
	if o.Groups == nil {
		return
	}
	expected := b.context.Policy.Groups
	if g := o.Groups.FiniteField; g != nil && g.Bits < expected.ModulusRisk {
		f := found("group.weak-parameters", "finite field", "DHE parameters", "Keys are agreed modulo a prime of %d bits.", g.Bits)
		if g.Bits < expected.ModulusFault {
			f.Severity = Fault
		}
		f.Evidence.Observations = []string{strings.TrimSpace(g.Name + " " + g.Prime)}
		b.add(f)
	}
	checkListedGroups(b, o.Groups.Accepted)
	accepted := o.Groups.Accepted
	if b.versions["TLS 1.3"] == facts.Accepted && len(accepted) > 0 && !slices.ContainsFunc(accepted, func(name string) bool {
		return slices.ContainsFunc(tlswire.Groups(), func(g tlswire.Group) bool { return g.String() == name && g.Hybrid() })
	}) {
		b.add(found("group.no-hybrid", "groups", "groups", "No hybrid group is accepted, only %s.", strings.Join(accepted, ", ")))
	}
}

// checkListedGroups compares the groups with the policy's own lists.
func checkListedGroups(b *bundle, accepted []string) {
	expected := b.context.Policy.Groups
	var listed []string
	worst := None
	for _, group := range accepted {
		if severity := Severity(expected.Severity(group)); severity != "" {
			listed = append(listed, group)
			if severity.AtLeast(worst) {
				worst = severity
			}
		}
	}
	if len(listed) == 0 {
		return
	}
	f := found("group.weak-parameters", "groups", "groups", "Groups that the policy does not allow are accepted: %s.", strings.Join(listed, ", "))
	f.Severity, f.Settings, f.Evidence.Observations = worst, noLines, listed
	f.Remedy = "Leave them out of the list of groups (nginx ssl_ecdh_curve, Apache SSLOpenSSLConfCmd Groups, HAProxy ssl-default-bind-curves, Postfix tls_eecdh_auto_curves, Dovecot ssl_curve_list), and reload the server."
	b.add(f)
}
