package probe

import (
	"context"
	"slices"

	"nurvik/core/facts"
	"nurvik/core/tlswire"
)

// otherKeys looks for leaves with other kinds of key, by offers that exclude
// those that are known: in TLS 1.3 by the signature schemes, before it by the suites too.
func otherKeys(ctx context.Context, v *visit) {
	if v.leaf == nil || len(v.kinds) == 0 {
		return
	}
	for _, version := range v.accepted() {
		if version == tlswire.TLS13 {
			modernKeys(ctx, v)
			continue
		}
		classicKeys(ctx, v, version)
		return
	}
}

func modernKeys(ctx context.Context, v *visit) {
	for kinds := v.missing(); len(kinds) > 0; {
		hello := v.hello(tlswire.TLS13)
		hello.Signatures = slices.DeleteFunc(slices.Clone(hello.Signatures), func(s tlswire.SignatureScheme) bool {
			return !slices.ContainsFunc(kinds, func(k kindOfKey) bool { return k.signs(s) })
		})
		session, _ := v.whole(ctx, facts.Because(facts.ForOtherKey), hello, nil)
		if len(session.Chain.Certificates) > 0 {
			v.absorb(session.Answer)
		}
		left := v.missing()
		if len(left) == len(kinds) {
			return
		}
		kinds = left
	}
}

// classicKeys asks for RSA up to TLS 1.2: some that have a key for ECDSA use it as long as one of its suites is
// offered,
// known to them or not. Whoever signed with RSA until nothing of that was left has refused every suite of the other
// kinds then; and of those two, which have the same suites, the search for signature schemes asks.
func classicKeys(ctx context.Context, v *visit, version tlswire.Version) {
	if slices.Contains(v.kinds, rsaKeys) {
		return
	}
	suites := slices.DeleteFunc(slices.Clone(offered(version)), func(s tlswire.Suite) bool {
		return s.Properties().Authentication != "RSA"
	})
	hello := v.hello(version)
	hello.Suites = suites
	hello.Signatures = slices.DeleteFunc(slices.Clone(hello.Signatures),
		func(s tlswire.SignatureScheme) bool { return !rsaKeys.signs(s) })
	answer, err := v.exchange(ctx, facts.Because(facts.ForOtherKey), hello)
	if err != nil || answer.Hello.Version != version || len(answer.Chain.Certificates) == 0 {
		return
	}
	v.absorb(answer)
	if s := answer.Hello.Suite; !slices.Contains(v.suites[version], s) && slices.Contains(suites, s) {
		v.suites[version] = append(v.suites[version], s)
		exhaust(ctx, v, version, suites)
	}
}
