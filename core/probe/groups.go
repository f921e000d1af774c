package probe

import (
	"context"
	"nurvik/core/facts"
	"nurvik/core/tlswire"
	"slices"
)

// groupsOrdered concludes whose order of groups counts from what was chosen of
// the reversed list.
func groupsOrdered(v *visit, chosen tlswire.Group) {
	switch n := len(v.groups); {
	case n < 2 || v.observation.Groups == nil:
	case chosen == v.groups[0]:
		v.observation.Groups.Order = facts.ServerOrder
	case chosen == v.groups[n-1]:
		v.observation.Groups.Order = facts.ClientOrder
	}
}

// askGroups offers the groups with all suites that need one. Up to TLS 1.2 the
// list is also that of the curves which a certificate may have (RFC 8422, 5.1),
// so that of the leaf is among them, in the last place.
func askGroups(ctx context.Context, v *visit, purpose facts.Reason, list []tlswire.Group) (tlswire.Group, error) {
	hello := v.hello(v.groupVersion)
	list = withLeafCurve(v, list)
	hello.Suites, hello.Groups = slices.DeleteFunc(slices.Clone(v.suites[v.groupVersion]),
		func(s tlswire.Suite) bool { return !agreesInGroup(s) }), list
	answer, err := v.exchange(ctx, purpose, hello)
	if isTimeout(err) || answer.Hello.Version != v.groupVersion || !slices.Contains(list, answer.Group()) {
		return 0, err
	}
	return answer.Group(), nil
}

// withLeafCurve adds the curve of the leaf to groups of a version up to TLS 1.2.
func withLeafCurve(v *visit, list []tlswire.Group) []tlswire.Group {
	if curve := leafCurve(v); curve != 0 && v.groupVersion < tlswire.TLS13 && !slices.Contains(list, curve) {
		return append(slices.Clone(list), curve)
	}
	return list
}

func reversedGroups(v *visit) []tlswire.Group {
	reversed := slices.Clone(v.groups)
	slices.Reverse(reversed)
	return reversed
}

// leafCurve is the group of the leaf's key, 0 for other kinds of key.
func leafCurve(v *visit) tlswire.Group {
	if v.leaf == nil {
		return 0
	}
	return map[string]tlswire.Group{"P-256": tlswire.P256, "P-384": tlswire.P384,
		"P-521": tlswire.P521}[v.leaf.PublicKey.Curve]
}

func agreesInGroup(s tlswire.Suite) bool {
	k := s.Properties().KeyExchange
	return k == "any" || k == "ECDHE"
}

// enumerateGroups finds the groups of the newest version that agrees keys in
// them. The offers carry no share, so that the endpoint shows its preference
// and computes nothing.
func enumerateGroups(ctx context.Context, v *visit) {
	for _, x := range v.accepted() {
		if slices.ContainsFunc(v.suites[x], agreesInGroup) {
			v.groupVersion = x
			break
		}
	}
	if v.groupVersion == 0 {
		return
	}
	for {
		g, err := askGroups(ctx, v, facts.Because(facts.ForGroups), without(tlswire.AllGroups, v.groups))
		if g == 0 {
			v.ended(ctx, err, func(why facts.Reason) { v.fact().Cut = why })
		}
		if g == 0 || slices.Contains(v.groups, g) {
			break
		}
		v.groups = append(v.groups, g)
	}
	for _, g := range v.groups {
		v.fact().Accepted = append(v.fact().Accepted, g.String())
	}
}

// groupOrder asks for the order of groups where no other offer showed it.
func groupOrder(ctx context.Context, v *visit) {
	if len(v.groups) < 2 || v.observation.Groups.Order != "" {
		return
	}
	chosen, _ := askGroups(ctx, v, facts.Because(facts.ForGroupOrder), reversedGroups(v))
	groupsOrdered(v, chosen)
}
