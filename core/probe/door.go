package probe

import (
	"context"
	"crypto/rand"
	"errors"
	"slices"
	"time"

	"nurvik/core/facts"
	"nurvik/core/tlswire"
	"nurvik/core/words"
)

// question is what is done on one connection, once it has come as far as TLS.
type question func(conn *countingConn, hello tlswire.ClientHello) (tlswire.Answer, error)

// ask asks on a connection of its own. Where the endpoint closes it without an
// answer, or does not let it come so far, a hello that was good before is sent
// again: only while that is still answered, the close was a refusal. Else the
// endpoint limits connections or is ill, and it is asked more and more slowly.
func (v *visit) ask(ctx context.Context, purpose facts.Reason, hello tlswire.ClientHello,
	do question) (answer tlswire.Answer, err error) {
	again := false
	for range 4 {
		if answer, err = v.attempt(ctx, purpose, hello, do); !hungUp(err) || v.good == nil {
			v.settle(hello, answer, err)
			return answer, err
		}
		if isTimeout(err) && !again { // a busy endpoint or a lost packet is no refusal
			again, purpose = true, also(purpose, facts.Again)
			continue
		}
		switch open, waited := v.knock(ctx, err); {
		case !open:
			return tlswire.Answer{}, errNoConnection
		case !waited:
			return answer, err
		case !again:
			again, purpose = true, also(purpose, facts.Again)
		}
	}
	v.shut(err) // it is let in after each pause, and never for this
	return tlswire.Answer{}, errNoConnection
}

// shut ends the asking, since the endpoint no longer answers.
func (v *visit) shut(why error) {
	v.over, v.observation.Cut = true, v.stopped(why)
}

// stopped says after how many connections the endpoint no longer answered, and how the last one ended.
func (v *visit) stopped(why error) facts.Reason {
	made := len(v.connections)
	if v.aside != nil {
		made++
	}
	return facts.Because(facts.StoppedAnswering, made, words.Of(reasonOf(why)))
}

// attempt asks once.
func (v *visit) attempt(ctx context.Context, purpose facts.Reason, hello tlswire.ClientHello,
	do question) (tlswire.Answer, error) {
	conn, record, err := v.connect(ctx, purpose)
	if err != nil {
		return tlswire.Answer{}, err
	}
	v.record = record
	answer, err := do(conn, hello)
	if v.aside != nil && v.aside.conn == conn { // it is not over yet
		return answer, v.checked(hello, answer, err)
	}
	err = conn.judged(err)
	v.close(conn, record, err)
	_ = conn.Close()
	if ctx.Err() != nil && answer.Hello.Version == 0 {
		return answer, errNoConnection
	}
	return answer, v.checked(hello, answer, err)
}

// settle keeps a hello that was answered, to knock with, and notes whether what was refused since then is in doubt.
func (v *visit) settle(hello tlswire.ClientHello, answer tlswire.Answer, err error) {
	if answer.Hello.Version != 0 && !broken(answer, err) {
		hello.Resume, hello.Ticket, hello.Grease, hello.Cookie, hello.Shares = nil, nil, false, nil, nil
		v.good, v.doubtful = &hello, nil
	}
}

// ended notes that a list has come to its end with a refusal, or because nothing more can be asked. cut tells of it
// what is not known; it is called now or when it turns out that the refusal was none.
func (v *visit) ended(ctx context.Context, err error, cut func(facts.Reason)) {
	if errors.Is(err, errNoConnection) {
		cut(v.cutReason(ctx))
		return
	}
	var alert *tlswire.AlertError
	if errors.As(err, &alert) && slices.Contains(telling, alert.Alert.Name()) {
		return
	}
	v.doubtful = append(v.doubtful, cut)
}

// telling are the alerts that name what was refused, which whoever limits connections does not look at.
var telling = []string{"protocol_version", "inappropriate_fallback", "unrecognized_name", "no_application_protocol"}

// cutReason is why nothing more can be asked.
func (v *visit) cutReason(ctx context.Context) facts.Reason {
	switch {
	case v.observation.Cut.Given():
		return v.observation.Cut
	case ctx.Err() != nil:
		return facts.Because(facts.TimeOver, v.prober.limits.Visit, len(v.connections))
	}
	return facts.Because(facts.EnoughAsked, len(v.connections), v.most())
}

// knocks are how long an endpoint is left alone before it is asked whether it still answers, and from then on between
// two connections.
var knocks = []time.Duration{0, time.Second, time.Second, time.Second, 5 * time.Second}

// knock asks whether the endpoint still answers what it answered before, at once and after pauses.
func (v *visit) knock(ctx context.Context, why error) (open, waited bool) {
	for _, pause := range knocks {
		v.interval = max(v.interval, pause)
		answer, err := v.attempt(ctx, facts.Because(facts.ForGoodHello), *v.good, v.exchanged(true))
		switch {
		case answer.Hello.Version != 0:
			v.doubtful = nil
			return true, pause > 0
		case errors.Is(err, errNoConnection):
			return false, false
		}
		why = err
	}
	v.shut(why)
	return false, false
}

// confirmRefusals knocks where the last thing that was met was a refusal.
func confirmRefusals(ctx context.Context, v *visit) {
	if len(v.doubtful) == 0 || v.good == nil {
		return
	}
	lists := v.doubtful
	open, waited := v.knock(ctx, tlswire.ErrClosed)
	if open && !waited {
		return
	}
	why := v.cutReason(ctx)
	if open { // and was not when these were refused
		why = v.stopped(tlswire.ErrClosed)
	}
	for _, cut := range lists {
		cut(why)
	}
}

// exchanged is the question that a hello alone asks.
func (v *visit) exchanged(shares bool) question {
	return func(conn *countingConn, hello tlswire.ClientHello) (tlswire.Answer, error) {
		o := tlswire.Options{Records: v.prober.limits.Records}
		if shares && hello.Offers(tlswire.TLS13) {
			o.Random, o.Shares = rand.Reader, sharesFor(hello)
		}
		return tlswire.Exchange(conn, hello, o)
	}
}

// sharesFor are the groups of which shares are sent at once.
func sharesFor(hello tlswire.ClientHello) []tlswire.Group {
	var out []tlswire.Group
	for _, g := range []tlswire.Group{tlswire.X25519, tlswire.P256} {
		if slices.Contains(hello.Groups, g) {
			out = append(out, g)
		}
	}
	if i := slices.IndexFunc(hello.Groups, tlswire.Agreeable); len(out) == 0 && i >= 0 {
		out = append(out, hello.Groups[i])
	}
	return out
}

// exchange sends a hello on a connection of its own. In TLS 1.3 it sends no
// share, so that the endpoint shows its preference and computes nothing, unless
// the endpoint wants one.
func (v *visit) exchange(ctx context.Context, purpose facts.Reason, hello tlswire.ClientHello) (tlswire.Answer, error) {
	answer, err := v.ask(ctx, purpose, hello, v.exchanged(v.shares == facts.Yes))
	if hello.Highest() < tlswire.TLS13 || v.shares != "" {
		return answer, err
	}
	if answer.Hello.Version == tlswire.TLS13 {
		v.shares = facts.No
	}
	if !refused(err) {
		return answer, err
	}
	again, errAgain := v.ask(ctx, also(purpose, facts.WithShares), hello, v.exchanged(true))
	if again.Hello.Version != tlswire.TLS13 {
		return answer, err
	}
	v.shares = facts.Yes
	return again, errAgain
}

// whole makes a whole handshake on a connection of its own, and says goodbye; use does something with the session
// before.
func (v *visit) whole(ctx context.Context, purpose facts.Reason, hello tlswire.ClientHello,
	use func(*countingConn, *tlswire.Session)) (*tlswire.Session, error) {
	session := &tlswire.Session{}
	_, err := v.ask(ctx, purpose, hello, func(conn *countingConn, hello tlswire.ClientHello) (tlswire.Answer, error) {
		s, err := tlswire.Handshake(conn, hello, tlswire.Options{Random: rand.Reader,
			Records: v.prober.limits.Records, Shares: sharesFor(hello), EncryptRSA: encryptRSA})
		if s == nil {
			return tlswire.Answer{}, err
		}
		if session = s; err == nil && s.Finished {
			if use != nil {
				use(conn, s)
			}
			if v.aside == nil || v.aside.conn != conn {
				v.farewell(s)
			}
		}
		return s.Answer, err
	})
	if errors.Is(err, errNoConnection) {
		session = &tlswire.Session{}
	}
	return session, err
}

// farewells end the session of a protocol that began in plaintext, so that its server logs no lost connection. One
// whose greeting is still to come is not spoken to before it.
var farewells = map[string]string{
	"smtp": "QUIT\r\n", "submission": "QUIT\r\n", "lmtp": "QUIT\r\n", "pop3": "QUIT\r\n", "ftp": "QUIT\r\n",
	"nntp": "QUIT\r\n", "imap": "a2 LOGOUT\r\n", "sieve": "LOGOUT\r\n",
	"ldap": "\x30\x05\x02\x01\x02\x42\x00", // an UnbindRequest (RFC 4511, 4.3)
}

// farewell says goodbye as the protocol wants it.
func (v *visit) farewell(s *tlswire.Session) {
	if text := farewells[v.scheme]; text != "" {
		_, _ = s.Write([]byte(text)) // whoever has hung up needs no goodbye
	}
	_ = s.CloseNotify()
}
