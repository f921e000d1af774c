package probe

import (
	"context"
	"encoding/hex"
	"math/big"
	"slices"
	"strings"

	"nurvik/core/facts"
	"nurvik/core/tlswire"
)

// enumerate finds all suites of each accepted version, the groups, and whose
// order of preference counts. What was chosen is left out of the next offer
// until nothing of it is taken: k suites cost k+1 connections, the one of the
// discovery included.
func (v *visit) enumerate(ctx context.Context) {
	versions := v.accepted()
	for _, version := range versions {
		v.remaining(ctx, version)
	}
	v.enumerateGroups(ctx)
	for _, version := range versions {
		v.order(ctx, version)
	}
	v.groupOrder(ctx)
}

// offered are the suites that belong to the version, in the order of the offer.
func offered(version tlswire.Version) []tlswire.Suite {
	if version == tlswire.TLS13 {
		return tlswire.Modern
	}
	return tlswire.Classic()
}

func without[T comparable](all, some []T) []T {
	return slices.DeleteFunc(slices.Clone(all), func(x T) bool { return slices.Contains(some, x) })
}

// remaining offers what is left of the suites until that is refused. In TLS 1.3
// the first of these offers leave out the groups that were met as well, and so
// teach two things; a refusal is then asked for again with all groups.
func (v *visit) remaining(ctx context.Context, version tlswire.Version) {
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
		answer, err := v.narrowed(ctx, "further suites of "+version.String(), hello)
		if isTimeout(err) {
			answer, err = v.exchange(ctx, "further suites of "+version.String()+" once more", hello)
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

// order finds out whose order of preference counts. A server that did not
// follow the order of our offers has one of its own; whether it gives way to
// clients that prefer ChaCha20, as some do, is asked. Else the accepted suites
// are offered the other way round.
func (v *visit) order(ctx context.Context, version tlswire.Version) {
	found := v.suites[version]
	if len(found) < 2 {
		return
	}
	mine := slices.DeleteFunc(slices.Clone(offered(version)), func(s tlswire.Suite) bool { return !slices.Contains(found, s) })
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
	switch chosen := v.prefer(ctx, version, append(slices.Clone(special), without(reversed, special)...)); {
	case chosen == 0:
	case chosen == found[0]:
		fact.Order = facts.ServerOrder
	case len(special) == 0 || !slices.Contains(special, chosen):
		fact.Order = facts.ClientOrder
	case own || v.prefer(ctx, version, lead(found, special)) == found[0]: // only for these the client's order counts
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

// prefer offers the suites in the order and returns the one that is chosen, 0
// for none. In TLS 1.3 the groups are offered the other way round with them.
func (v *visit) prefer(ctx context.Context, version tlswire.Version, list []tlswire.Suite) tlswire.Suite {
	hello := v.hello(version)
	hello.Suites = list
	if version == v.groupVersion && version == tlswire.TLS13 && len(v.groups) > 1 {
		hello.Groups = slices.Clone(v.groups)
		slices.Reverse(hello.Groups)
	}
	answer, err := v.exchange(ctx, "order of preference of "+version.String(), hello)
	if isTimeout(err) || answer.Hello.Version != version {
		return 0
	}
	if len(hello.Groups) == len(v.groups) {
		v.groupsOrdered(answer.Group())
	}
	return answer.Hello.Suite
}

// groupsOrdered concludes whose order of groups counts from what was chosen of
// the reversed list.
func (v *visit) groupsOrdered(chosen tlswire.Group) {
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
func (v *visit) askGroups(ctx context.Context, purpose string, list []tlswire.Group) tlswire.Group {
	hello := v.hello(v.groupVersion)
	if curve := v.leafCurve(); curve != 0 && v.groupVersion < tlswire.TLS13 && !slices.Contains(list, curve) {
		list = append(slices.Clone(list), curve)
	}
	hello.Suites, hello.Groups = slices.DeleteFunc(slices.Clone(v.suites[v.groupVersion]), func(s tlswire.Suite) bool { return !agreesInGroup(s) }), list
	answer, err := v.exchange(ctx, purpose, hello)
	if isTimeout(err) || answer.Hello.Version != v.groupVersion || !slices.Contains(list, answer.Group()) {
		return 0
	}
	return answer.Group()
}

// leafCurve is the group of the leaf's key, 0 for other kinds of key.
func (v *visit) leafCurve() tlswire.Group {
	if v.leaf == nil {
		return 0
	}
	return map[string]tlswire.Group{"P-256": tlswire.P256, "P-384": tlswire.P384, "P-521": tlswire.P521}[v.leaf.PublicKey.Curve]
}

func agreesInGroup(s tlswire.Suite) bool {
	k := s.Properties().KeyExchange
	return k == "any" || k == "ECDHE"
}

// enumerateGroups finds the groups of the newest version that agrees keys in
// them. The offers carry no share, so that the endpoint shows its preference
// and computes nothing.
func (v *visit) enumerateGroups(ctx context.Context) {
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
		g := v.askGroups(ctx, "further groups", without(tlswire.AllGroups, v.groups))
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
func (v *visit) groupOrder(ctx context.Context) {
	if len(v.groups) < 2 || v.observation.Groups.Order != "" {
		return
	}
	reversed := slices.Clone(v.groups)
	slices.Reverse(reversed)
	v.groupsOrdered(v.askGroups(ctx, "order of groups", reversed))
}

func (v *visit) fact() *facts.Groups {
	if v.observation.Groups == nil {
		v.observation.Groups = &facts.Groups{Accepted: []string{}}
	}
	return v.observation.Groups
}

// finite notes the prime of DHE; the smallest that is met counts.
func (v *visit) finite(prime []byte) {
	bits := new(big.Int).SetBytes(prime).BitLen()
	g := v.fact()
	if g.FiniteField == nil || bits < g.FiniteField.Bits {
		g.FiniteField = &facts.FiniteField{Bits: bits, Name: tlswire.PrimeName(prime), Prime: hex.EncodeToString(prime)}
	}
}
