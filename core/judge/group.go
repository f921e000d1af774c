package judge

import (
	"slices"
	"strings"

	"nurvik/core/facts"
	"nurvik/core/tlswire"
)

// groupWeak judges the primes of DHE, and the groups by the policy's own lists.
func groupWeak(a *address) []Finding {
	if a.seen.Groups == nil {
		return nil
	}
	expected := a.context.Policy.Groups
	var out []Finding
	if g := a.seen.Groups.FiniteField; g != nil && g.Bits < expected.ModulusRisk {
		f := found("group.weak-parameters", "finite field", "DHE parameters", "DHE uses a prime of %d bits.", g.Bits)
		f.Severity = Risk
		if g.Bits < expected.ModulusFault {
			f.Severity = Fault
		}
		f.Evidence.Observations = []string{strings.TrimSpace(g.Name + " " + g.Prime)}
		out = append(out, f)
	}
	var listed []string
	worst := None
	for _, group := range a.seen.Groups.Accepted {
		if severity := Severity(expected.Severity(group)); severity != "" {
			listed = append(listed, group)
			if severity.AtLeast(worst) {
				worst = severity
			}
		}
	}
	if len(listed) > 0 {
		f := found("group.weak-parameters", "groups", "groups",
			"Groups that the policy does not allow are accepted: %s.", strings.Join(listed, ", "))
		f.Severity, f.Edits, f.Evidence.Observations = worst, noEdits, listed
		f.Remedy = "Remove them from the list of groups (nginx ssl_ecdh_curve, Apache SSLOpenSSLConfCmd Groups, " +
			"HAProxy ssl-default-bind-curves," +
			" Postfix tls_eecdh_auto_curves, Dovecot ssl_curve_list), and reload the server."
		out = append(out, f)
	}
	return out
}

func groupNoHybrid(a *address) []Finding {
	if a.seen.Groups == nil {
		return nil
	}
	accepted := a.seen.Groups.Accepted
	hybrid := func(name string) bool {
		return slices.ContainsFunc(tlswire.Groups(), func(g tlswire.Group) bool {
			return g.String() == name &&
				g.Hybrid()
		})
	}
	if a.seen.Groups.Cut.Given() { // there may be one all the same
		return nil
	}
	if a.versions["TLS 1.3"] != facts.Accepted || len(accepted) == 0 || slices.ContainsFunc(accepted, hybrid) {
		return nil
	}
	return []Finding{found("group.no-hybrid", "groups", "groups", "No post-quantum hybrid group is accepted, only %s.",
		strings.Join(accepted, ", "))}
}
