package judge

import (
	"slices"
	"strings"
)

// checkVersions judges the protocol versions that an address accepts.
func checkVersions(b *bundle) {
	protocols := b.context.Policy.Protocols
	var accepted []string
	for version, ok := range b.versions {
		if ok {
			accepted = append(accepted, version)
		}
	}
	slices.Sort(accepted)
	for _, version := range accepted {
		fault := slices.Contains(protocols.Obsolete.Fault, version)
		if !fault && !slices.Contains(protocols.Obsolete.Risk, version) {
			continue
		}
		f := found("proto.obsolete", version, version, "%s is accepted.", version)
		if fault {
			f.Severity = Fault
		}
		f.Evidence.Versions = accepted
		f.Remedy = "Switch off " + version + " in the server's configuration and leave TLS 1.2 and TLS 1.3."
		b.add(f)
	}
	current := func(version string) bool { return b.versions[version] }
	has12, has13 := current("TLS 1.2"), current("TLS 1.3")
	var f Finding
	switch {
	case !slices.ContainsFunc(protocols.Current, current):
		what := "no version that was offered"
		if len(accepted) > 0 {
			what = "only " + strings.Join(accepted, " and ")
		}
		f = found("proto.none-current", "versions", "protocol versions", "Neither TLS 1.2 nor TLS 1.3 is accepted, %s.", what)
	case has12 && !has13:
		f = found("proto.without-tls13", "TLS 1.3", "TLS 1.3", "TLS 1.3 is not accepted.")
	case has13 && !has12:
		f = found("proto.without-tls12", "TLS 1.2", "TLS 1.2", "TLS 1.2 is not accepted.")
	default:
		return
	}
	f.Evidence.Versions = accepted
	b.add(f)
}
