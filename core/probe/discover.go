package probe

import (
	"context"
	"crypto/rand"
	"crypto/rsa"
	"errors"
	"fmt"
	"slices"

	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/tlswire"
)

// current are the versions that a modern hello offers, newest first.
var current = []tlswire.Version{tlswire.TLS13, tlswire.TLS12, tlswire.TLS11, tlswire.TLS10}

// discover finds the versions, each with its first suite, and the certificates.
// It reports whether anything was accepted.
func (v *visit) discover(ctx context.Context) bool {
	newest, ok := v.first(ctx)
	for ok && newest > tlswire.SSL30 {
		var lower []tlswire.Version
		for _, version := range slices.Backward(tlswire.Versions) {
			if version < newest && version >= tlswire.SSL30 {
				lower = append(lower, version)
			}
		}
		newest, ok = v.offer(ctx, lower)
	}
	accepted := slices.ContainsFunc(tlswire.Versions, func(x tlswire.Version) bool { return v.answers[x].Answer == facts.Accepted })
	if accepted && v.silent && v.answers[tlswire.TLS13].Answer == facts.NotShown { // nothing came in time at first, and something later
		v.offer(ctx, []tlswire.Version{tlswire.TLS13})
	}
	return accepted
}

// first makes the first contact: a whole handshake with the newest version that
// the endpoint takes. One that refuses everything modern is asked in the manner
// of older clients.
func (v *visit) first(ctx context.Context) (tlswire.Version, bool) {
	attempts := []struct {
		versions []tlswire.Version
		grease   bool
	}{{current, true}, {current, false}, {current[1:], false}}
	for i, attempt := range attempts {
		if i == 1 && v.silent { // an endpoint that is silent is tried once more only, with what very old ones understand
			continue
		}
		hello := v.hello(attempt.versions...)
		hello.Grease = attempt.grease
		hello.Protocols = []string{"http/1.1"}
		version, goOn, again := v.handshake(ctx, hello)
		if version != 0 {
			v.observation.Settings.ToleratesUnknown = facts.Yes
			if i > 0 {
				v.observation.Settings.ToleratesUnknown = facts.No
			}
			return version, goOn
		}
		if !again {
			return 0, false
		}
	}
	return 0, false
}

// handshake makes a whole handshake, and asks the web server where there is one.
func (v *visit) handshake(ctx context.Context, hello tlswire.ClientHello) (version tlswire.Version, goOn, again bool) {
	conn, record, ok := v.connect(ctx, "handshake with the newest version")
	if !ok {
		return 0, false, false
	}
	defer conn.Close()
	session, err := tlswire.Handshake(conn, hello, tlswire.Options{Random: rand.Reader, Records: v.prober.limits.Records, Shares: []tlswire.Group{tlswire.X25519, tlswire.P256}, EncryptRSA: encryptRSA})
	if session == nil {
		session = &tlswire.Session{}
	}
	err = v.checked(hello, session.Answer, conn.judged(err))
	if session.Finished && v.call.Web && v.call.Effort != facts.Quick {
		v.ask(session)
	}
	v.close(conn, record, err)
	return v.learn(hello, session.Answer, err)
}

// offer offers older versions at once.
func (v *visit) offer(ctx context.Context, versions []tlswire.Version) (tlswire.Version, bool) {
	hello := v.hello(versions...)
	purpose := "offer " + versions[0].String() + " and older"
	answer, err := v.exchange(ctx, purpose, hello)
	if isTimeout(err) { // a busy endpoint or a lost packet is no refusal
		answer, err = v.exchange(ctx, purpose+" once more", hello)
	}
	version, goOn, _ := v.learn(hello, answer, err)
	return version, goOn
}

// learn takes in one answer to an offer of versions. It tells which was taken,
// whether there may be others below, and whether another manner is worth trying.
func (v *visit) learn(hello tlswire.ClientHello, answer tlswire.Answer, err error) (version tlswire.Version, goOn, again bool) {
	if chosen := answer.Hello.Version; chosen != 0 && slices.Contains(hello.Versions, chosen) && slices.Contains(hello.Suites, answer.Hello.Suite) && !broken(answer, err) {
		for _, x := range hello.Versions {
			if x > chosen {
				v.answers[x] = facts.Version{Name: x.String(), Answer: facts.Declined, Detail: "answered with " + chosen.String()}
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
		fact.Answer, fact.Detail = facts.Declined, "alert "+alert.Alert.Name()
	case errors.As(err, &notTLS) && dialogues[v.call.Scheme] != nil: // it came too late to be seen before the hello
		v.fail(facts.Early, &earlyError{notTLS.Begin})
		return 0, false, false
	case errors.As(err, &notTLS):
		v.fail(facts.NotTLS, err)
		return 0, false, false
	case errors.As(err, &bad):
		fact.Answer, fact.Detail = facts.Garbled, bad.Reason
		v.fail(facts.BadMessage, err)
	case errors.As(err, &much):
		v.fail(facts.TooMuch, err)
		return 0, false, false
	case errors.Is(err, errNoConnection):
		return 0, false, false
	case errors.As(err, &slow): // no other hello would be answered faster
		again, fact.Detail = false, "no complete answer in time"
		v.fail(facts.TooSlow, fmt.Errorf("%d bytes of its answer came in %s, and it was not complete", slow.bytes, v.prober.limits.Handshake))
	case isTimeout(err):
		fact.Detail, v.silent = "no answer in time", true
		v.fail(facts.Timeout, errors.New("connected, but no answer came in time"))
	default: // closed or reset
		fact.Answer, fact.Detail = facts.Declined, "connection closed"
		v.fail(facts.Reset, tlswire.ErrClosed)
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
	return len(answer.Chain.Certificates) == 0 && (errors.As(err, &bad) || errors.As(err, &much) || errors.As(err, &slow))
}

// absorb takes in what an answer shows beside version and suite.
func (v *visit) absorb(a tlswire.Answer) {
	o := &v.observation
	if len(a.Chain.Certificates) > 0 && len(o.Certificates) == 0 {
		o.Certificates, o.Staple, o.Timestamps = a.Chain.Certificates, a.Chain.Staple, a.Chain.Timestamps
		v.leaf, _ = pki.ParseCertificate(a.Chain.Certificates[0])
	}
	if o.Staple == nil && len(a.Chain.Certificates) > 0 && slices.Equal(a.Chain.Certificates[0], o.Certificates[0]) {
		o.Staple = a.Chain.Staple
	}
	v.possession(a)
	if a.Request != nil && o.ClientCertificate == nil {
		o.ClientCertificate = &facts.ClientAuth{}
		for _, der := range a.Request.Issuers {
			if name, err := pki.ParseName(der); err == nil {
				o.ClientCertificate.Issuers = append(o.ClientCertificate.Issuers, pki.Printable(name.String()))
			}
		}
	}
	if k := a.Exchange; k != nil && len(k.Prime) > 0 {
		v.finite(k.Prime)
	}
	if a.Hello.Version < tlswire.TLS13 {
		v.shown(a.Hello)
	} else if p := a.Protocol(); p != "" && o.Settings.ALPN == "" {
		o.Settings.ALPN = p
	}
}

// possession verifies what the endpoint signed under the leaf that it served. A
// failure anywhere is a failure.
func (v *visit) possession(a tlswire.Answer) {
	o := &v.observation
	if len(a.Chain.Certificates) == 0 || o.Possession == facts.PossessionFailed {
		return
	}
	leaf, err := pki.ParseCertificate(a.Chain.Certificates[0])
	if err != nil {
		return
	}
	switch {
	case a.Proof != nil:
		v.signed(a)
		if o.Settings.SignatureScheme == "" && a.Proof.Scheme != 0 {
			o.Settings.SignatureScheme = a.Proof.Scheme.String()
		}
		switch err := pki.CheckHandshake(leaf.PublicKey, uint16(a.Proof.Scheme), a.Proof.Message, a.Proof.Signature); {
		case err == nil:
			o.Possession = facts.PossessionShown
		case errors.Is(err, pki.ErrBadSignature):
			o.Possession = facts.PossessionFailed
		}
	case a.Finished: // with static RSA the Finished message shows it
		o.Possession = facts.PossessionShown
	}
	if o.Possession == "" {
		o.Possession = facts.PossessionNotShown
	}
}

// shown notes the settings that a ServerHello up to TLS 1.2 shows.
func (v *visit) shown(h tlswire.ServerHello) {
	s := &v.observation.Settings
	note := func(into *facts.Answer, yes bool) {
		if *into == facts.Unknown || yes {
			*into = facts.No
			if yes {
				*into = facts.Yes
			}
		}
	}
	note(&(*s).Compression, h.Compression != 0)
	if h.Version == tlswire.SSL30 {
		return
	}
	note(&(*s).RenegotiationInfo, h.Renegotiation())
	note(&(*s).ExtendedMasterSecret, h.ExtendedMaster())
	note(&(*s).Heartbeat, h.Heartbeat())
	note(&(*s).SessionTickets, h.TicketPromised())
	if p := h.Suite.Properties(); !p.Authenticated && p.Strength > 0 && p.Cipher != "RC4-128" {
		note(&(*s).EncryptThenMAC, h.EncryptThenMAC())
	}
	if v.answers[tlswire.TLS13].Answer == facts.Accepted && h.Version == tlswire.TLS12 {
		note(&(*s).DowngradeMarker, h.DowngradeMarker())
	}
	if p := h.Protocol(); p != "" {
		(*s).ALPN = p
	}
}

// encryptRSA encrypts a premaster secret as a client does.
func encryptRSA(leaf, secret []byte) ([]byte, error) {
	c, err := pki.ParseCertificate(leaf)
	if err != nil {
		return nil, err
	}
	if c.PublicKey.N == nil || !c.PublicKey.E.IsInt64() || c.PublicKey.Bits > 8192 {
		return nil, fmt.Errorf("the leaf has the key %s", c.PublicKey)
	}
	//lint:ignore SA1019 it is what suites with static RSA do
	return rsa.EncryptPKCS1v15(rand.Reader, &rsa.PublicKey{N: c.PublicKey.N, E: int(c.PublicKey.E.Int64())}, secret)
}
