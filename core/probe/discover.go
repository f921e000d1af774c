package probe

import (
	"context"
	"errors"
	"slices"

	"nurvik/core/facts"
	"nurvik/core/tlswire"
)

// discover finds the versions, each with its first suite, and the certificates.
// It reports whether anything was accepted.
func discover(ctx context.Context, v *visit) bool {
	newest, ok := firstContact(ctx, v)
	for ok && newest > tlswire.SSL30 {
		var lower []tlswire.Version
		for _, version := range slices.Backward(tlswire.Versions) {
			if version < newest && version >= tlswire.SSL30 {
				lower = append(lower, version)
			}
		}
		newest, ok = offerOlder(ctx, v, lower)
	}
	accepted := slices.ContainsFunc(tlswire.Versions,
		func(x tlswire.Version) bool { return v.answers[x].Answer == facts.Accepted })
	// nothing came in time at first, and something later
	if accepted && v.silent && v.answers[tlswire.TLS13].Answer == facts.NotShown {
		offerOlder(ctx, v, []tlswire.Version{tlswire.TLS13})
	}
	return accepted
}

// manner is how the first contact is tried.
type manner struct {
	versions  []tlswire.Version
	reserved  bool // with reserved values
	small     bool // in fewer than 512 bytes
	protocols *[]string
}

// Manners of clients of any age: one that refuses everything modern is asked as
// older clients ask, down to those that know one version alone.
var (
	greeting   = manner{versions: current, reserved: true}
	unreserved = manner{versions: current}
	older      = manner{versions: current[1:]}
	short      = manner{versions: current, small: true}
	onlyTLS10  = manner{versions: []tlswire.Version{tlswire.TLS10}, small: true}
	onlySSL30  = manner{versions: []tlswire.Version{tlswire.SSL30}, small: true}
	ifRefused  = []manner{unreserved, older, short, onlyTLS10, onlySSL30}
	ifGarbled  = []manner{unreserved, older} // one that answers is heard
	ifNotHeard = []manner{short, onlyTLS10}
)

// firstContact makes the first contact: a whole handshake with the newest version
// that the endpoint takes, in one manner after the other. One that refuses the application protocol is offered
// another.
func firstContact(ctx context.Context, v *visit) (tlswire.Version, bool) {
	next := []manner{greeting}
	others := v.call.otherProtocols()
	silences := 0
	for first := true; len(next) > 0; first = false {
		m := next[0]
		next = next[1:]
		v.protocols, v.small = m.protocols, m.small
		hello := v.hello(m.versions...)
		hello.Grease = m.reserved
		before := v.silent
		v.silent = false
		version, goOn, again := firstHandshake(ctx, v, hello)
		silent := v.silent
		v.silent = before || silent
		if silent {
			silences++
		}
		switch {
		case version != 0:
			v.odd = !m.reserved
			if s := v.observation.Settings; m.reserved {
				s.ToleratesUnknown, s.ToleratesNewer = facts.Yes, facts.Unknown
				if version < m.versions[0] {
					s.ToleratesNewer = facts.Yes
				}
			}
			return version, goOn
		case !again:
			return 0, false
		case silent && silences == 1: // each silence costs the whole time for an answer
			next = ifNotHeard
		case silent && silences > len(ifNotHeard):
			return 0, false
		case len(others) > 0 && (refusesProtocol(v) || first && unregistered[v.call.Scheme] != nil):
			for _, list := range slices.Backward(others) {
				next = slices.Insert(next, 0, manner{versions: m.versions, reserved: m.reserved, protocols: &list})
			}
			others = nil
		}
		switch {
		case !first || silent:
		case v.failure == facts.BadMessage:
			next = append(next, ifGarbled...)
		default:
			next = append(next, ifRefused...)
		}
	}
	withoutName(ctx, v)
	return 0, false
}

// withoutName asks an endpoint that refuses every hello once more, and names nobody.
func withoutName(ctx context.Context, v *visit) {
	if v.call.ServerName == "" || len(v.answers) == 0 {
		return
	}
	v.protocols, v.small = nil, false
	hello := v.hello(current...)
	hello.ServerName = ""
	session, err := v.whole(ctx, facts.Because(facts.ForNoName), hello, nil)
	if errors.Is(err, errNoConnection) {
		return
	}
	served := facts.Served{To: "no-name", Certificates: session.Chain.Certificates}
	if session.Hello.Version == 0 {
		served.Refused = reasonOf(err)
	}
	v.good = nil // it is no hello that counts
	v.observation.Others = append(v.observation.Others, served)
}

// firstHandshake makes a whole handshake, and asks the web server where there is one.
func firstHandshake(ctx context.Context, v *visit, hello tlswire.ClientHello) (version tlswire.Version, goOn,
	again bool) {
	session, err := v.whole(ctx, facts.Because(facts.ForNewest), hello, func(conn *countingConn, s *tlswire.Session) {
		if v.call.Web && v.call.Effort != facts.Quick {
			askWeb(ctx, v, conn, s)
		}
	})
	if errors.Is(err, errNoConnection) {
		return 0, false, false
	}
	if err == nil && session.Unfinished != "" {
		v.observation.Unseen = unseen(session.Answer, nil)
	}
	return learnVersions(v, hello, session.Answer, err)
}

// offerOlder offers older versions at once.
func offerOlder(ctx context.Context, v *visit, versions []tlswire.Version) (tlswire.Version, bool) {
	hello := v.hello(versions...)
	purpose := facts.Because(facts.ForVersions, versions[0])
	answer, err := v.exchange(ctx, purpose, hello)
	version, goOn, _ := learnVersions(v, hello, answer, err)
	if version == 0 {
		v.ended(ctx, err, func(why facts.Reason) {
			for _, x := range versions {
				v.answers[x] = facts.Version{Name: x.String(), Answer: facts.NotShown, Detail: why}
			}
		})
	}
	return version, goOn
}

// learnVersions takes in one answer to an offer of versions. It tells which was taken,
// whether there may be others below, and whether another manner is worth trying.
func learnVersions(v *visit, hello tlswire.ClientHello, answer tlswire.Answer, err error) (version tlswire.Version,
	goOn, again bool) {
	if chosen := answer.Hello.Version; chosen != 0 && slices.Contains(hello.Versions, chosen) &&
		slices.Contains(hello.Suites, answer.Hello.Suite) && !broken(answer, err) {
		for _, x := range hello.Versions {
			if x > chosen {
				v.answers[x] = facts.Version{Name: x.String(), Answer: facts.Declined,
					Detail: facts.Because(facts.OtherVersion, chosen)}
			}
		}
		v.answers[chosen] = facts.Version{Name: chosen.String(), Answer: facts.Accepted}
		v.suites[chosen] = append(v.suites[chosen], answer.Hello.Suite)
		v.absorb(answer)
		v.schemes.note(answer)
		if r := answer.Retried; r != nil && r.Share.Group != 0 && slices.Contains(hello.Groups, r.Share.Group) {
			v.groups = append(v.groups, r.Share.Group) // it was preferred to those of which shares were sent
		}
		return chosen, true, false
	}
	var alert *tlswire.AlertError
	var notTLS *tlswire.NotTLSError
	var bad *tlswire.BadMessageError
	var much *tlswire.TooMuchError
	var slow *slowError
	var away *turnedAwayError
	var unasked *tlswire.NotOfferedError
	fact := facts.Version{Answer: facts.NotShown}
	again = true
	switch {
	case errors.As(err, &alert):
		fact.Answer, fact.Detail = facts.Declined, reasonOf(err)
	case errors.As(err, &notTLS) && dialogues[v.call.Scheme] != nil: // it came too late to be seen before the hello
		v.fail(facts.Early, (&earlyError{notTLS.Begin}).reason())
		return 0, false, false
	case errors.As(err, &notTLS):
		v.fail(facts.NotTLS, reasonOf(err))
		return 0, false, false
	case errors.As(err, &bad):
		fact.Answer, fact.Detail = facts.Garbled, reasonOf(err)
		v.fail(facts.BadMessage, reasonOf(err))
	case errors.As(err, &much):
		v.fail(facts.TooMuch, reasonOf(err))
		return 0, false, false
	case errors.Is(err, errNoConnection), errors.As(err, &away):
		return 0, false, false
	case errors.As(err, &unasked):
		fact.Answer, fact.Detail = facts.Garbled, reasonOf(err)
		v.fail(facts.BadMessage, reasonOf(err))
	case errors.As(err, &slow): // no other hello would be answered faster
		again, fact.Detail = false, facts.Because(facts.NoWholeAnswer)
		v.fail(facts.TooSlow, facts.Because(facts.SlowAnswer, slow.bytes, v.prober.limits.Handshake))
	case isTimeout(err):
		fact.Detail, v.silent = facts.Because(facts.NoAnswer), true
		v.fail(facts.Timeout, facts.Because(facts.NoAnswer))
	default: // closed or reset
		fact.Answer, fact.Detail = facts.Declined, facts.Because(facts.Closed)
		v.fail(facts.Reset, facts.Because(facts.Closed))
	}
	for i, x := range hello.Versions {
		// The way in which the more usual hello was refused tells more.
		if known, ok := v.answers[x]; ok && (known.Answer == facts.Accepted ||
			known.Answer == facts.Declined && fact.Answer == facts.Declined) {
			continue
		}
		fact.Name = x.String()
		if fact.Answer == facts.Garbled && i > 0 { // nothing is known of the others
			break
		}
		v.answers[x] = fact
	}
	return 0, false, again
}

// refusesProtocol reports whether the endpoint refused a hello because of its application protocol (RFC 7301, 3.2).
func refusesProtocol(v *visit) bool {
	for _, x := range current {
		if slices.Equal(v.answers[x].Detail.Args, []string{"no_application_protocol"}) &&
			v.answers[x].Detail.Code == facts.Alert {
			return true
		}
	}
	return false
}
