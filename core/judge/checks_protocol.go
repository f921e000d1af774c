package judge

import (
	"fmt"
	"slices"

	"nurvik/core/facts"
	"nurvik/core/policy"
)

// checkVersions judges the protocol versions that an address accepts.
func checkVersions(b *bundle) {
	protocols := b.context.Policy.Protocols
	var accepted []string
	for version, answer := range b.versions {
		if answer == facts.Accepted {
			accepted = append(accepted, version)
		}
	}
	slices.Sort(accepted)
	for _, version := range accepted {
		fault := slices.Contains(protocols.Obsolete.Fault, version)
		obsolete := fault || slices.Contains(protocols.Obsolete.Risk, version)
		if !obsolete && (len(protocols.Allowed) == 0 || slices.Contains(protocols.Allowed, version)) {
			continue
		}
		f := found("proto.obsolete", version, version, "%s is accepted.", version)
		if !obsolete {
			f.Message, f.Settings = fmt.Sprintf("%s is accepted, which the policy does not allow.", version), noLines
		}
		if fault {
			f.Severity = Fault
		}
		f.Evidence.Versions = accepted
		f.Remedy = "Switch off " + version + " in the server's configuration and leave " + joined(remaining(protocols)) + "."
		b.add(f)
	}
	has := func(version string) bool { return b.versions[version] == facts.Accepted }
	// A version that nothing was shown of, because no answer came in time, is not called missing.
	lacks := func(version string) bool { return !has(version) && b.versions[version] != facts.NotShown }
	var f Finding
	switch {
	case !slices.ContainsFunc(protocols.Current, func(version string) bool { return !lacks(version) }):
		what := "no version that was offered"
		if len(accepted) > 0 {
			what = "only " + joined(accepted)
		}
		f = found("proto.none-current", "versions", "protocol versions", "Neither TLS 1.2 nor TLS 1.3 is accepted, %s.", what)
	case has("TLS 1.2") && lacks("TLS 1.3"):
		f = found("proto.without-tls13", "TLS 1.3", "TLS 1.3", "TLS 1.3 is not accepted.")
	case has("TLS 1.3") && lacks("TLS 1.2"):
		f = found("proto.without-tls12", "TLS 1.2", "TLS 1.2", "TLS 1.2 is not accepted.")
	default:
		return
	}
	f.Evidence.Versions = accepted
	for _, version := range protocols.Required {
		if f.Subject == version {
			f.Severity, f.Message = Fault, f.Message+" The policy requires it."
		}
	}
	b.add(f)
}

// remaining are the versions that are to be left: those that are allowed, or else current.
func remaining(p policy.Protocol) []string {
	if len(p.Allowed) > 0 {
		return p.Allowed
	}
	return p.Current
}
