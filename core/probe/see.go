package probe

import (
	"context"
	"errors"
	"slices"
	"strings"

	"nurvik/core/facts"
	"nurvik/core/tlswire"
)

// see gets the certificates of an endpoint that takes TLS 1.3 and did not show
// them in the first contact: it refuses the application protocol that was
// offered, hangs at reserved values, or insists on something that cannot be
// computed here while it would take something else. Where no manner of asking
// helps, the observation says why.
func see(ctx context.Context, v *visit) {
	if len(v.observation.Certificates) > 0 {
		v.observation.Unseen = facts.Reason{}
		return
	}
	if v.answers[tlswire.TLS13].Answer != facts.Accepted {
		return
	}
	insisted := v.observation.Unseen // at first contact, if on anything
	usual, known := v.hello(tlswire.TLS13), map[string]bool{}
	computable := func(h *tlswire.ClientHello) {
		h.Groups = slices.DeleteFunc(slices.Clone(h.Groups),
			func(g tlswire.Group) bool { return !tlswire.Agreeable(g) })
		h.Suites = slices.DeleteFunc(slices.Clone(h.Suites), func(s tlswire.Suite) bool { return !tlswire.Readable(s) })
	}
	for _, list := range append([][]string{nil, usual.Protocols}, v.call.otherProtocols()...) {
		if known[strings.Join(list, " ")] {
			continue
		}
		known[strings.Join(list, " ")] = true
		v.protocols = &list
		hello := v.hello(tlswire.TLS13)
		computable(&hello)
		session, err := v.whole(ctx, facts.Because(facts.ForCertificate), hello, nil)
		if errors.Is(err, errNoConnection) {
			return
		}
		if len(session.Chain.Certificates) > 0 {
			v.observation.Unseen = facts.Reason{}
			v.absorb(session.Answer)
			return
		}
		if !refused(err) {
			v.observation.Unseen = unseen(session.Answer, err)
			break // another protocol would change nothing
		}
		if v.observation.Unseen = insisted; !insisted.Given() {
			v.observation.Unseen = unseen(session.Answer, err)
		}
	}
	v.protocols = nil
}

// unseen says why the handshake showed no certificate.
func unseen(a tlswire.Answer, err error) facts.Reason {
	switch {
	case err != nil:
		return reasonOf(err)
	case a.Unfinished != "" && a.Retried != nil && !tlswire.Agreeable(a.Retried.Share.Group):
		return facts.Because(facts.InsistsOnGroup, a.Retried.Share.Group)
	case a.Unfinished != "":
		return facts.Because(facts.InsistsOnSuite, a.Hello.Suite)
	}
	return facts.Because(facts.SendsNone, a.Hello.Suite)
}

// confirmIntolerance finds out what an endpoint does not take that was not answered at first: one dropped connection is
// no proof of anything, so the first hello is sent again.
func confirmIntolerance(ctx context.Context, v *visit) {
	s, versions := v.observation.Settings, v.accepted()
	if !v.odd || len(versions) == 0 {
		return
	}
	small := v.small
	answered := func(change func(*tlswire.ClientHello), offer ...tlswire.Version) bool {
		hello := v.hello(offer...)
		change(&hello)
		answer, _ := v.exchange(ctx, facts.Because(facts.ForTolerance), hello)
		return answer.Hello.Version != 0
	}
	reserved := func(h *tlswire.ClientHello) { h.Grease = true }
	nothing := func(*tlswire.ClientHello) {}
	v.small = false
	usual := v.hello(current...)
	size := len(usual.Message())
	switch {
	case answered(reserved, current...):
		s.ToleratesUnknown = facts.Yes
		return
	case answered(nothing, current...):
		s.ToleratesUnknown = facts.No
		return
	}
	if versions[0] < tlswire.TLS13 {
		own := v.hello(versions[0])
		if longer := size - len(own.Message()) - 4; versions[0] > tlswire.SSL30 && longer > 0 &&
			!answered(func(h *tlswire.ClientHello) { h.Padding = longer }, versions[0]) {
			s.ToleratesLarge = facts.No
		} else {
			s.ToleratesNewer = facts.No
		}
	}
	v.small = small
}
