package probe

import (
	"context"
	"crypto/rand"
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
	if len(v.observation.Certificates) > 0 || v.answers[tlswire.TLS13].Answer != facts.Accepted {
		return
	}
	usual, known := v.hello(tlswire.TLS13), map[string]bool{}
	computable := func(h *tlswire.ClientHello) {
		h.Groups = slices.DeleteFunc(slices.Clone(h.Groups), func(g tlswire.Group) bool { return !tlswire.Agreeable(g) })
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
		session, err := wholeHandshake(ctx, v, facts.Because(facts.ForCertificate), hello)
		if session == nil {
			return
		}
		if len(session.Chain.Certificates) > 0 {
			v.observation.Unseen = facts.Reason{}
			v.absorb(session.Answer)
			return
		}
		if v.observation.Unseen = unseen(session.Answer, err); !refused(err) {
			break // another protocol would change nothing
		}
	}
	v.protocols = nil
}

// wholeHandshake makes a whole handshake on a connection of its own; the session is nil where there was no connection.
func wholeHandshake(ctx context.Context, v *visit, purpose facts.Reason, hello tlswire.ClientHello) (*tlswire.Session,
	error) {
	conn, record, ok := v.connect(ctx, purpose)
	if !ok {
		return nil, errNoConnection
	}
	defer conn.Close()
	session, err := tlswire.Handshake(conn, hello, tlswire.Options{Random: rand.Reader,
		Records: v.prober.limits.Records, Shares: []tlswire.Group{tlswire.X25519, tlswire.P256}})
	err = conn.judged(err)
	v.close(conn, record, err)
	if session == nil {
		session = &tlswire.Session{}
	}
	return session, v.checked(hello, session.Answer, err)
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

// confirmIntolerance asks again in both manners where the endpoint seems to refuse reserved values: one dropped
// connection is no proof of that.
func confirmIntolerance(ctx context.Context, v *visit) {
	s, versions := v.observation.Settings, v.accepted()
	if s.ToleratesUnknown != facts.No || len(versions) == 0 {
		return
	}
	answered := func(reserved bool) bool {
		hello := v.hello(versions[0])
		hello.Grease = reserved
		answer, _ := v.exchange(ctx, facts.Because(facts.ForTolerance), hello)
		return answer.Hello.Version != 0
	}
	switch {
	case answered(true):
		s.ToleratesUnknown = facts.Yes
	case !answered(false):
		s.ToleratesUnknown = facts.Unknown
	}
}
