package probe

import (
	"context"
	"slices"
	"strings"

	"nurvik/core/facts"
	"nurvik/core/tlswire"
)

// furtherSuites offers what is left of the suites until that is refused. In TLS 1.3
// the first of these offers leave out the groups that were met as well, and so
// teach two things; a refusal is then asked for again with all groups.
func furtherSuites(ctx context.Context, v *visit, version tlswire.Version) {
	const twofold = 2 // offers that teach both; most servers have three suites
	both := version == tlswire.TLS13
	for offer := 1; ; offer++ {
		left := without(offered(version), v.suites[version])
		if len(left) == 0 {
			return
		}
		both = both && offer <= twofold
		hello := v.hello(version)
		hello.Suites = left
		if both {
			hello.Groups = without(tlswire.AllGroups, v.groups)
		}
		answer, err := narrowed(ctx, v, facts.Because(facts.ForSuites, version), hello)
		if isTimeout(err) {
			answer, err = v.exchange(ctx, facts.Because(facts.ForSuites, version, facts.Again), hello)
		}
		h := answer.Hello
		if h.Version != version || !slices.Contains(left, h.Suite) || isTimeout(err) {
			if both && len(v.groups) > 0 && refused(err) {
				both = false
				continue
			}
			return
		}
		if both && answer.Group() != 0 && slices.Contains(hello.Groups, answer.Group()) {
			v.groups = append(v.groups, answer.Group())
		}
		v.suites[version] = append(v.suites[version], h.Suite)
		v.absorb(answer)
	}
}

// suiteOrder finds out whose order of preference counts. A server that did not
// follow the order of our offers has one of its own; whether it gives way to
// clients that prefer ChaCha20, as some do, is asked. Else the accepted suites
// are offered the other way round.
func suiteOrder(ctx context.Context, v *visit, version tlswire.Version) {
	found := v.suites[version]
	if len(found) < 2 {
		return
	}
	mine := slices.DeleteFunc(slices.Clone(offered(version)),
		func(s tlswire.Suite) bool { return !slices.Contains(found, s) })
	own := !slices.Equal(mine, found)
	var special []tlswire.Suite
	for _, s := range found {
		if strings.HasPrefix(s.Properties().Cipher, "ChaCha20") && s != found[0] {
			special = append(special, s)
		}
	}
	fact := v.answers[version]
	defer func() { v.answers[version] = fact }()
	if own && len(special) == 0 {
		fact.Order = facts.ServerOrder
		return
	}
	reversed := slices.Clone(found)
	slices.Reverse(reversed)
	switch chosen := preferred(ctx, v, version, append(slices.Clone(special), without(reversed, special)...)); {
	case chosen == 0:
	case chosen == found[0]:
		fact.Order = facts.ServerOrder
	case len(special) == 0 || !slices.Contains(special, chosen):
		fact.Order = facts.ClientOrder
	// Only for these the client's order counts.
	case own || preferred(ctx, v, version, lead(found, special)) == found[0]:
		fact.Order = facts.PartialOrder
		for _, s := range special {
			fact.PartialSuites = append(fact.PartialSuites, s.String())
		}
	default:
		fact.Order = facts.ClientOrder
	}
}

// lead puts a suite at the head that is neither the endpoint's first nor one of the special ones.
func lead(found, special []tlswire.Suite) []tlswire.Suite {
	out := slices.Clone(found)
	for i := 1; i < len(out); i++ {
		if !slices.Contains(special, out[i]) {
			out[0], out[i] = out[i], out[0]
			break
		}
	}
	return out
}

// preferred offers the suites in the order and returns the one that is chosen, 0
// for none. In TLS 1.3 the groups are offered the other way round with them.
func preferred(ctx context.Context, v *visit, version tlswire.Version, list []tlswire.Suite) tlswire.Suite {
	hello := v.hello(version)
	hello.Suites = list
	if version == v.groupVersion && version == tlswire.TLS13 && len(v.groups) > 1 {
		hello.Groups = slices.Clone(v.groups)
		slices.Reverse(hello.Groups)
	}
	answer, err := v.exchange(ctx, facts.Because(facts.ForSuiteOrder, version), hello)
	if isTimeout(err) || answer.Hello.Version != version {
		return 0
	}
	if len(hello.Groups) == len(v.groups) {
		groupsOrdered(v, answer.Group())
	}
	return answer.Hello.Suite
}
