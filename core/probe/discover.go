package probe

import (
	"context"
	"crypto/rand"
	"errors"
	"slices"

	"nurvik/core/facts"
	"nurvik/core/tlswire"
)

// current are the versions that a modern hello offers, newest first.
var current = []tlswire.Version{tlswire.TLS13, tlswire.TLS12, tlswire.TLS11, tlswire.TLS10}

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
	protocols *[]string
}

// firstContact makes the first contact: a whole handshake with the newest version that
// the endpoint takes. One that refuses everything modern is asked in the manner
// of older clients, and one that refuses the application protocol with another.
func firstContact(ctx context.Context, v *visit) (tlswire.Version, bool) {
	next := []manner{{versions: current, reserved: true}, {versions: current}, {versions: current[1:]}}
	others := v.call.otherProtocols()
	for first := true; len(next) > 0; first = false {
		m := next[0]
		next = next[1:]
		v.protocols = m.protocols
		hello := v.hello(m.versions...)
		hello.Grease = m.reserved
		if v.call.Web && v.protocols == nil { // the web server is asked on this connection
			hello.Protocols = []string{"http/1.1"}
		}
		before := v.silent
		v.silent = false
		version, goOn, again := firstHandshake(ctx, v, hello)
		silent := v.silent
		v.silent = before || silent
		switch {
		case version != 0:
			v.observation.Settings.ToleratesUnknown = facts.No
			if m.reserved {
				v.observation.Settings.ToleratesUnknown = facts.Yes
			}
			return version, goOn
		case !again, silent && !first:
			return 0, false
		case silent: // what very old ones understand first; and the rest where that is answered
			next = []manner{next[1], next[0]}
		case len(others) > 0 && (refusesProtocol(v) || first && unregistered[v.call.Scheme] != nil):
			for _, list := range slices.Backward(others) {
				next = slices.Insert(next, 0, manner{m.versions, m.reserved, &list})
			}
			others = nil
		}
	}
	return 0, false
}

// firstHandshake makes a whole handshake, and asks the web server where there is one.
func firstHandshake(ctx context.Context, v *visit, hello tlswire.ClientHello) (version tlswire.Version, goOn,
	again bool) {
	conn, record, ok := v.connect(ctx, facts.Because(facts.ForNewest))
	if !ok {
		return 0, false, false
	}
	defer conn.Close()
	session, err := tlswire.Handshake(conn, hello, tlswire.Options{Random: rand.Reader,
		Records: v.prober.limits.Records, Shares: []tlswire.Group{tlswire.X25519, tlswire.P256},
		EncryptRSA: encryptRSA})
	if session == nil {
		session = &tlswire.Session{}
	}
	err = v.checked(hello, session.Answer, conn.judged(err))
	if session.Finished && v.call.Web && v.call.Effort != facts.Quick {
		askWeb(v, session)
	}
	v.close(conn, record, err)
	return learnVersions(v, hello, session.Answer, err)
}

// offerOlder offers older versions at once.
func offerOlder(ctx context.Context, v *visit, versions []tlswire.Version) (tlswire.Version, bool) {
	hello := v.hello(versions...)
	purpose := facts.Because(facts.ForVersions, versions[0])
	answer, err := v.exchange(ctx, purpose, hello)
	if isTimeout(err) { // a busy endpoint or a lost packet is no refusal
		answer, err = v.exchange(ctx, also(purpose, facts.Again), hello)
	}
	version, goOn, _ := learnVersions(v, hello, answer, err)
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
	case errors.Is(err, errNoConnection):
		return 0, false, false
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
		if known, ok := v.answers[x]; ok && known.Answer == facts.Accepted {
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

// broken reports whether the answer failed before it showed a certificate, so
// that no client could go on.
func broken(answer tlswire.Answer, err error) bool {
	var bad *tlswire.BadMessageError
	var much *tlswire.TooMuchError
	var slow *slowError
	return len(answer.Chain.Certificates) == 0 && (errors.As(err, &bad) || errors.As(err, &much) ||
		errors.As(err, &slow))
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
