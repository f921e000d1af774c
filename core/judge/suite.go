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
func suitesOf(o *facts.Observation) []acceptedSuite {
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

// weakSuites are the codes of suites that should not be accepted, with their words.
var weakSuites = [][2]string{
	{"suite.null", "Cipher suites without encryption are accepted: %s."},
	{"suite.anonymous", "Cipher suites without authentication are accepted: %s."},
	{"suite.export", "Export cipher suites are accepted: %s."},
	{"suite.weak-cipher", "Weak cipher suites are accepted: %s."},
}

// noEdits is for findings that the catalogue's lines would not repair, because a
// policy's own list is what they depart from.
var noEdits = []Edit{}

// suiteWeak tells of suites that should not be accepted.
func suiteWeak(a *address) []Finding {
	weak := map[string][]string{}
	severities := map[string]Severity{}
	weakByItself := false // and not by a policy's own list alone
	for _, s := range suitesOf(a.seen) {
		code, severity := s.weakness(a.context.Policy.Suites)
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
	var out []Finding
	for _, w := range weakSuites {
		code, list := w[0], weak[w[0]]
		if len(list) == 0 {
			continue
		}
		f := found(code, "suites", "cipher suites", w[1], someOf(list))
		f.Severity, f.Evidence.Observations = severities[code], list
		if code == "suite.weak-cipher" && !weakByItself {
			f.Message, f.Edits = fmt.Sprintf("Cipher suites that the policy does not allow are accepted: %s.",
				someOf(list)), noEdits
			f.Remedy = "Remove them from the cipher list (nginx ssl_ciphers, Apache SSLCipherSuite, HAProxy " +
				"ssl-default-bind-ciphers," +
				" Postfix smtpd_tls_exclude_ciphers, Dovecot ssl_cipher_list), and reload the server."
		}
		out = append(out, f)
	}
	return out
}

// someOf names the first few of a list.
func someOf(list []string) string {
	const most = 3
	if len(list) <= most {
		return strings.Join(list, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(list[:most], ", "), len(list)-most)
}

func suiteForwardSecrecy(a *address) []Finding {
	var without []string
	with, cut := false, false
	for _, v := range a.seen.Versions {
		cut = cut || v.Cut.Given()
	}
	for _, s := range suitesOf(a.seen) {
		code, _ := s.weakness(a.context.Policy.Suites)
		if code == "suite.null" || code == "suite.anonymous" || code == "suite.export" {
			continue // told by a stronger code
		}
		with = with || s.p.ForwardSecrecy
		if !s.p.ForwardSecrecy && s.p.Authentication != "PSK" {
			without = append(without, s.name+" in "+s.version)
		}
	}
	if len(without) == 0 || cut && !with { // one of those that were not asked may have it
		return nil
	}
	f := found("suite.no-forward-secrecy", "suites", "cipher suites",
		"No accepted cipher suite has forward secrecy: %s.", someOf(without))
	if with {
		f.Message = fmt.Sprintf("Some accepted cipher suites do not have forward secrecy: %s.", someOf(without))
		f.Severity = Note
	}
	f.Evidence.Observations = without
	return []Finding{f}
}

// suiteOrder judges the order where something weak is accepted, which the order can keep from being used.
func suiteOrder(a *address) []Finding {
	var out []Finding
	for _, v := range a.seen.Versions {
		firstWeak, lastGood := -1, -1 // a weak one before the last good one comes too early
		for i, name := range v.Suites {
			s, ok := tlswire.SuiteNamed(name)
			if !ok {
				continue
			}
			if code, _ := (acceptedSuite{name: name, p: s.Properties()}).weakness(a.context.Policy.Suites); code == "" {
				lastGood = i
			} else if firstWeak < 0 {
				firstWeak = i
			}
		}
		switch {
		case firstWeak < 0 || lastGood < 0:
		case v.Order == facts.ClientOrder:
			out = append(out, found("suite.client-decides", v.Name, v.Name,
				"In %s the client's order counts, and weak cipher suites are accepted: %s.", v.Name,
				v.Suites[firstWeak]))
		case v.Order != "" && firstWeak < lastGood:
			out = append(out, found("suite.weak-first", v.Name, v.Name,
				"In %s the weak cipher suite %s is preferred to better ones.", v.Name, v.Suites[firstWeak]))
		}
	}
	return out
}
