package judge

import (
	"fmt"
	"slices"

	"nurvik/core/facts"
	"nurvik/core/policy"
)

// wanted are the versions that are to be left on: those that are allowed, or else current.
func wanted(p policy.Protocol) []string {
	if len(p.Allowed) > 0 {
		return p.Allowed
	}
	return p.Current
}

// unwanted says whether the version should be off under the policy, and how bad it is that it is on.
func unwanted(p policy.Protocol, version string) (severity Severity, byList bool) {
	switch {
	case slices.Contains(p.Obsolete.Fault, version):
		return Fault, false
	case slices.Contains(p.Obsolete.Risk, version):
		return Risk, false
	case len(p.Allowed) > 0 && !slices.Contains(p.Allowed, version):
		return Risk, true
	}
	return None, false
}

// protoObsolete tells of versions that should be off.
func protoObsolete(a *address) []Finding {
	protocols := a.context.Policy.Protocols
	accepted := acceptedVersions(a)
	keep := wanted(protocols)
	var out []Finding
	for _, version := range accepted {
		severity, byList := unwanted(protocols, version)
		if severity == None {
			continue
		}
		f := found("proto.obsolete", version, version, "%s is accepted.", version)
		if byList {
			f.Message = fmt.Sprintf("%s is accepted, which the policy does not allow.", version)
		}
		f.Severity, f.Evidence.Versions = severity, accepted
		f.Remedy, f.Edits = versionRemedy(version, keep), versionEdits(keep)
		out = append(out, f)
	}
	return out
}

// protoCurrent tells of current versions that are not accepted. A version that
// nothing was shown of, because no answer came in time, is not called missing.
func protoCurrent(a *address) []Finding {
	protocols := a.context.Policy.Protocols
	lacks := func(version string) bool { return !a.accepts(version) && a.versions[version] != facts.NotShown }
	accepted := acceptedVersions(a)
	if refusal(a) != "" {
		return nil // for another reason
	}
	var f Finding
	keep := wanted(protocols)
	switch {
	case !slices.ContainsFunc(protocols.Current, func(version string) bool { return !lacks(version) }):
		what := "no version that was offered"
		if len(accepted) > 0 {
			what = "only " + joined(accepted)
		}
		f = found("proto.none-current", "versions", "protocol versions", "Neither TLS 1.2 nor TLS 1.3 is accepted, %s.",
			what)
	case a.accepts("TLS 1.2") && lacks("TLS 1.3"):
		f = found("proto.without-tls13", "TLS 1.3", "TLS 1.3", "TLS 1.3 is not accepted.")
	case a.accepts("TLS 1.3") && lacks("TLS 1.2"):
		f = found("proto.without-tls12", "TLS 1.2", "TLS 1.2", "TLS 1.2 is not accepted.")
	default:
		return nil
	}
	if f.Code != "proto.none-current" && !slices.Contains(keep, f.Subject) {
		if !slices.Contains(protocols.Required, f.Subject) {
			return nil // the policy wants it off
		}
		keep = append(slices.Clone(keep), f.Subject)
	}
	f.Evidence.Versions, f.Edits = accepted, versionEdits(keep)
	if slices.Contains(protocols.Required, f.Subject) {
		f.Severity, f.Message = Fault, f.Message+" The policy requires it."
	}
	return []Finding{f}
}

// protoSettings judges what single ClientHellos showed.
func protoSettings(a *address) []Finding {
	s := a.seen.Settings
	if s == nil {
		return nil
	}
	var out []Finding
	note := func(yes bool, code, subject, message string) {
		if yes {
			out = append(out, found(code, subject, subject, "%s", message))
		}
	}
	if s.NotOffered != "" {
		out = append(out, notOffered(s))
	}
	note(s.Compression == facts.Yes, "proto.compression", "compression",
		"TLS compression is accepted, which lets attackers guess encrypted data.")
	note(s.RenegotiationInfo == facts.No, "proto.no-renegotiation-info", "renegotiation",
		"Secure renegotiation is not supported.")
	note(s.ExtendedMasterSecret == facts.No, "proto.no-extended-master-secret", "extended master secret",
		"The extended master secret is not supported.")
	note(s.Heartbeat == facts.Yes, "proto.heartbeat", "heartbeat", "The heartbeat extension is enabled.")
	note(s.ToleratesUnknown == facts.No, "proto.intolerant", "unknown values",
		"The endpoint rejects ClientHellos with values that it does not know, as newer clients send them.")
	note(s.ToleratesNewer == facts.No, "proto.intolerant", "newer versions",
		"The endpoint rejects ClientHellos that offer newer versions beside its own, as every client sends them.")
	note(s.ToleratesLarge == facts.No, "proto.intolerant", "large hellos",
		"The endpoint rejects large ClientHellos, as clients with post-quantum key exchange send them.")
	return out
}

func notOffered(s *facts.Settings) Finding {
	return found("proto.answer-not-offered", "hello", "hello", "The endpoint chose %s, which was not offered.",
		s.NotOffered)
}

// choseUnasked reports whether nothing but an answer came that nobody offered.
func choseUnasked(o *facts.Observation) bool {
	return o.Outcome == facts.BadMessage && o.Settings != nil && o.Detail.Code == facts.ChoseUnasked
}

// protoNothingElse tells of addresses whose every answer is one that was not offered.
func protoNothingElse(v *visited) []Finding {
	var out []Finding
	for i := range v.facts.Observations {
		if o := &v.facts.Observations[i]; choseUnasked(o) {
			f := notOffered(o.Settings)
			f.Addresses = []string{o.Place()}
			out = append(out, f)
		}
	}
	return out
}

// settingRules are the settings in the order in which they are shown, with
// what is wanted and the code that tells when it is not so.
var settingRules = []struct {
	name   string
	of     func(*facts.Settings) facts.Answer
	should facts.Answer
	code   string
}{
	{"renegotiation_info", func(s *facts.Settings) facts.Answer { return s.RenegotiationInfo }, facts.Yes,
		"proto.no-renegotiation-info"},
	{"extended_master_secret", func(s *facts.Settings) facts.Answer { return s.ExtendedMasterSecret }, facts.Yes,
		"proto.no-extended-master-secret"},
	{"encrypt_then_mac", func(s *facts.Settings) facts.Answer { return s.EncryptThenMAC }, "", ""},
	{"compression", func(s *facts.Settings) facts.Answer { return s.Compression }, facts.No, "proto.compression"},
	{"fallback_signal", func(s *facts.Settings) facts.Answer { return s.FallbackSignal }, "", ""},
	{"session_tickets", func(s *facts.Settings) facts.Answer { return s.SessionTickets }, "", ""},
	{"resumption", func(s *facts.Settings) facts.Answer { return s.Resumption }, "", ""},
	{"heartbeat", func(s *facts.Settings) facts.Answer { return s.Heartbeat }, facts.No, "proto.heartbeat"},
	{"downgrade_marker", func(s *facts.Settings) facts.Answer { return s.DowngradeMarker }, "", ""},
	{"tolerates_unknown", func(s *facts.Settings) facts.Answer { return s.ToleratesUnknown }, facts.Yes,
		"proto.intolerant"},
	{"tolerates_newer", func(s *facts.Settings) facts.Answer { return s.ToleratesNewer }, facts.Yes,
		"proto.intolerant"},
	{"tolerates_large", func(s *facts.Settings) facts.Answer { return s.ToleratesLarge }, facts.Yes,
		"proto.intolerant"},
}
