package probe

import (
	"context"
	"errors"
	"slices"
	"strings"
	"sync"

	"nurvik/core/facts"
	"nurvik/core/tlswire"
)

// Suites that are offered at once: some servers fail at 128, others read 64 and no more, and very old ones need
// short hellos.
const (
	usualPage = 112
	halfPage  = 60
	smallPage = 40
)

// everySuite are all classic suites, the rare ones first: whoever does not read to the end of a long list finds nothing
// in it.
var everySuite = sync.OnceValue(func() []tlswire.Suite { return slices.Concat(tlswire.Rare(), tlswire.Usual()) })

// offered are the suites of the version that servers in use have, in the order of the offer.
func offered(version tlswire.Version) []tlswire.Suite {
	if version == tlswire.TLS13 {
		return tlswire.Modern
	}
	return tlswire.Usual()
}

// furtherSuites finds all suites of a version. The classic ones are offered all at once, and in portions where that
// is refused. The rare ones are asked of the
// newest of the classic versions, and of others where that has one.
func furtherSuites(ctx context.Context, v *visit, version tlswire.Version, newestClassic bool) {
	rare := newestClassic || slices.ContainsFunc(v.suites[tlswire.TLS12], isRare)
	pages := [][]tlswire.Suite{offered(version)}
	switch {
	case version == tlswire.TLS13:
	case v.reads(ctx, version) && rare:
		pages[0] = everySuite()
	case v.many != facts.Yes:
		pages = slices.Collect(slices.Chunk(offered(version), v.page))
		if rare {
			pages = slices.AppendSeq(pages, slices.Chunk(tlswire.Rare(), v.page))
		}
	}
	for _, page := range pages {
		if !exhaust(ctx, v, version, page) {
			return
		}
	}
}

func isRare(s tlswire.Suite) bool { return slices.Contains(tlswire.Rare(), s) }

// reads finds out whether the endpoint reads a list of all suites to its end, and how many it reads where it does not.
func (v *visit) reads(ctx context.Context, version tlswire.Version) bool {
	if v.many != "" {
		return v.many == facts.Yes
	}
	v.many = facts.No
	if v.page = smallPage; v.small {
		return false
	}
	found := v.suites[version]
	hello := v.hello(version)
	hello.Suites = without(everySuite(), found)
	answer, err := narrowed(ctx, v, facts.Because(facts.ForSuites, version), hello)
	if h := answer.Hello; h.Version == version && slices.Contains(hello.Suites, h.Suite) && !isTimeout(err) {
		v.suites[version] = append(found, h.Suite)
		v.absorb(answer)
		v.many = facts.Yes
		return true
	}
	// Nothing more is accepted, or it is too long: what is accepted at the end of a shorter one tells.
	hello.Suites = append(without(tlswire.Rare(), found)[:usualPage-1], found[0])
	v.page = halfPage
	if answer, _ := v.exchange(ctx, facts.Because(facts.ForSuites, version), hello); answer.Hello.Version == version {
		v.page = usualPage
	}
	return false
}

// exhaust offers what is left of the suites until that is refused, and reports whether more can be asked. In TLS 1.3
// the first of these offers leave out the groups that were met as well, and so
// teach two things; a refusal is then asked for again with all groups.
func exhaust(ctx context.Context, v *visit, version tlswire.Version, page []tlswire.Suite) bool {
	const twofold = 2 // offers that teach both; most servers have three suites
	both := version == tlswire.TLS13
	for offer := 1; ; offer++ {
		left := without(page, v.suites[version])
		if len(left) == 0 {
			return true
		}
		both = both && offer <= twofold
		hello := v.hello(version)
		hello.Suites = left
		if both {
			hello.Groups = without(hello.Groups, v.groups)
		}
		answer, err := narrowed(ctx, v, facts.Because(facts.ForSuites, version), hello)
		h := answer.Hello
		if h.Version != version || !slices.Contains(left, h.Suite) || isTimeout(err) {
			if both && len(v.groups) > 0 && refused(err) {
				both = false
				continue
			}
			v.ended(ctx, err, func(why facts.Reason) {
				fact := v.answers[version]
				fact.Cut = why
				v.answers[version] = fact
			})
			return !errors.Is(err, errNoConnection)
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
	own := !slices.Equal(asOffered(v, version), found)
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

// asOffered are the accepted suites in the order in which they were offered: the usual ones at first, and then all.
func asOffered(v *visit, version tlswire.Version) []tlswire.Suite {
	found := v.suites[version]
	only := func(list []tlswire.Suite) []tlswire.Suite {
		return slices.DeleteFunc(slices.Clone(list), func(s tlswire.Suite) bool { return !slices.Contains(found, s) })
	}
	out := only(offered(version))
	if version == tlswire.TLS13 || v.many != facts.Yes || len(out) == 0 {
		return slices.Concat(out, without(only(tlswire.Rare()), out))
	}
	return slices.Concat(out[:1], without(only(everySuite()), out[:1]))
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
// for none. In TLS 1.3 the groups are offered the other way round with them. Before it the offer names no server at
// first: where the usual chain comes all the same, that question is answered too.
func preferred(ctx context.Context, v *visit, version tlswire.Version, list []tlswire.Suite) tlswire.Suite {
	hello := v.hello(version)
	hello.Suites = list
	if version == v.groupVersion && version == tlswire.TLS13 && len(v.groups) > 1 {
		hello.Groups = reversedGroups(v)
	}
	if version < tlswire.TLS13 && !v.nameless && v.call.ServerName != "" && len(v.kinds) == 1 {
		v.nameless = true
		hello.ServerName = ""
		v.schemes.over = false
		answer, err := narrowed(ctx, v, facts.Because(facts.ForSuiteOrder, version, facts.WithoutName), hello)
		if answer.Hello.Version == version && !isTimeout(err) && usualChain(v, answer.Chain.Certificates) {
			v.signed(answer)
			return answer.Hello.Suite
		}
		otherName(v, facts.Served{To: "no-name"}, answer, err)
		hello = v.hello(version)
		hello.Suites = list
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
