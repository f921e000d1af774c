package probe

import (
	"context"
	"crypto/rand"
	"errors"
	"slices"
	"time"

	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/tlswire"
)

// accepted lists the accepted versions, newest first.
func (v *visit) accepted() []tlswire.Version {
	var out []tlswire.Version
	for _, x := range slices.Backward(tlswire.Versions) {
		if v.answers[x].Answer == facts.Accepted && x != tlswire.SSL20 {
			out = append(out, x)
		}
	}
	return out
}

// settings asks what no other hello shows.
func (v *visit) settings(ctx context.Context) {
	s := v.observation.Settings
	if versions := v.accepted(); len(versions) > 1 {
		// A client that comes back with an older version says so, and an endpoint that could do more refuses (RFC 7507).
		hello := v.hello(versions[1])
		hello.Signals = []tlswire.Suite{tlswire.FallbackSignal}
		answer, err := v.exchange(ctx, "fallback signal", hello)
		var alert *tlswire.AlertError
		switch {
		case errors.As(err, &alert) && alert.Alert.Name() == "inappropriate_fallback":
			s.FallbackSignal = facts.Yes
		case answer.Hello.Version == versions[1]:
			s.FallbackSignal = facts.No
		}
	}
	if v.call.Effort != facts.Full {
		return
	}
	if len(v.accepted()) > 0 {
		hello := v.hello(v.accepted()[0])
		hello.Padding = 5000
		answer, err := v.exchange(ctx, "a large hello", hello)
		s.ToleratesLarge = facts.Unknown
		switch {
		case answer.Hello.Version != 0:
			s.ToleratesLarge = facts.Yes
		case refused(err) || isTimeout(err):
			s.ToleratesLarge = facts.No
		}
	}
	v.resume(ctx)
}

// resume tries to go on with a session of TLS 1.3, and of the newest older version.
func (v *visit) resume(ctx context.Context) {
	versions := v.accepted()
	if len(versions) > 0 && versions[0] == tlswire.TLS13 {
		v.resumeModern(ctx)
	}
	if i := slices.IndexFunc(versions, func(x tlswire.Version) bool { return x < tlswire.TLS13 && x > tlswire.SSL30 }); i >= 0 {
		v.resumeOlder(ctx, versions[i])
	}
}

// resumed notes whether a session of the version went on. One that does is enough.
func (v *visit) resumed(version tlswire.Version, yes bool) {
	fact, s := v.answers[version], v.observation.Settings
	fact.Resumption = facts.No
	if yes {
		fact.Resumption = facts.Yes
	}
	v.answers[version] = fact
	if s.Resumption != facts.Yes {
		s.Resumption = fact.Resumption
	}
}

// resumeModern goes on with a session of TLS 1.3 by its ticket (RFC 8446, 2.2).
func (v *visit) resumeModern(ctx context.Context) {
	session := func(purpose string, ticket *tlswire.SessionTicket) (given *tlswire.SessionTicket, s *tlswire.Session) {
		conn, record, ok := v.connect(ctx, purpose)
		if !ok {
			return nil, nil
		}
		defer conn.Close()
		hello := v.hello(tlswire.TLS13)
		hello.Protocols, hello.Resume = []string{"http/1.1"}, ticket
		s, err := tlswire.Handshake(conn, hello, tlswire.Options{Random: rand.Reader, Records: v.prober.limits.Records, Shares: []tlswire.Group{tlswire.X25519, tlswire.P256}})
		if err == nil && s.Finished && ticket == nil {
			if v.call.Web { // some give tickets with the first answer only
				_, _ = get(s, v.call.ServerName, v.observation.Address)
			}
			_ = conn.SetReadDeadline(v.prober.network.Now().Add(min(ticketWait, v.prober.limits.Handshake)))
			given, _ = s.SessionTicket()
		}
		v.close(conn, record, err)
		if err != nil {
			return nil, nil
		}
		return given, s
	}
	ticket, first := session("a session of TLS 1.3 to go on with", nil)
	if first == nil || !first.Finished {
		return
	}
	if ticket == nil {
		v.resumed(tlswire.TLS13, false)
		return
	}
	v.observation.Settings.SessionTickets = facts.Yes
	if _, second := session("going on with the session of TLS 1.3", ticket); second != nil {
		v.resumed(tlswire.TLS13, second.Resumed && second.Finished)
	}
}

// ticketWait is how long a ticket may come after the handshake: with it, or never.
const ticketWait = 2 * time.Second

// resumeOlder goes on with a session of a version up to TLS 1.2, by its ticket
// (RFC 5077) or identifier (RFC 5246, 7.3).
func (v *visit) resumeOlder(ctx context.Context, version tlswire.Version) {
	session := func(purpose string, change func(*tlswire.ClientHello)) *tlswire.Session {
		conn, record, ok := v.connect(ctx, purpose)
		if !ok {
			return nil
		}
		defer conn.Close()
		hello := v.hello(version)
		hello.Compression, hello.MACFirst = false, true
		change(&hello)
		session, err := tlswire.Handshake(conn, hello, tlswire.Options{Random: rand.Reader, Records: v.prober.limits.Records, EncryptRSA: encryptRSA})
		v.close(conn, record, err)
		if err != nil {
			return nil
		}
		return session
	}
	first := session("a session to go on with", func(*tlswire.ClientHello) {})
	if first == nil || !first.Finished {
		return
	}
	if !first.TicketGiven && len(first.Hello.SessionID) == 0 {
		v.resumed(version, false)
		return
	}
	second := session("going on with the session", func(h *tlswire.ClientHello) {
		h.Ticket, h.SessionID = first.Ticket, first.Hello.SessionID
		if first.TicketGiven { // any identifier will do, and its echo tells
			h.SessionID = slices.Clone(h.Random[:])
		}
	})
	if second != nil {
		v.resumed(version, second.Resumed)
	}
}

// otherChains asks for the chains that other clients get: with another kind of
// key, without a server name, with a foreign one.
func (v *visit) otherChains(ctx context.Context) {
	versions := v.accepted()
	if len(versions) == 0 {
		return
	}
	v.otherKey(ctx, versions)
	for _, other := range []struct{ to, name string }{{"no-name", ""}, {"foreign-name", foreignName}} {
		if other.name == v.call.ServerName {
			continue
		}
		chain, err := v.chain(ctx, "certificates for "+other.to, versions, func(h *tlswire.ClientHello) { h.ServerName = other.name })
		served := facts.Served{To: other.to, ServerName: other.name, Certificates: chain}
		var alert *tlswire.AlertError
		switch {
		case len(chain) > 0 && v.usual(chain):
			continue // as most do
		case len(chain) > 0:
		case errors.As(err, &alert):
			served.Refused = "alert " + alert.Alert.Name()
		case errors.Is(err, tlswire.ErrClosed):
			served.Refused = "connection closed"
		default:
			continue
		}
		v.observation.Others = append(v.observation.Others, served)
	}
}

// foreignName is a name that no endpoint has (RFC 6761, 6.4).
const foreignName = "nobody.invalid"

// usual reports whether the chain is what a client gets that names the endpoint,
// with the one kind of key or the other.
func (v *visit) usual(chain [][]byte) bool {
	return sameChain(chain, v.observation.Certificates) || slices.ContainsFunc(v.observation.Others, func(s facts.Served) bool {
		return s.To == "other-key" && sameChain(chain, s.Certificates)
	})
}

func sameChain(a, b [][]byte) bool {
	return slices.EqualFunc(a, b, func(x, y []byte) bool { return slices.Equal(x, y) })
}

// chain gets the certificates in answer to a hello that was changed, in the
// clear where an older version is accepted.
func (v *visit) chain(ctx context.Context, purpose string, versions []tlswire.Version, change func(*tlswire.ClientHello)) ([][]byte, error) {
	for _, x := range versions {
		if x < tlswire.TLS13 {
			hello := v.hello(x)
			change(&hello)
			v.schemes.over = false
			answer, err := v.narrowed(ctx, purpose, hello)
			if chain := answer.Chain.Certificates; len(chain) > 0 && v.usual(chain) {
				v.signed(answer)
			}
			return answer.Chain.Certificates, err
		}
	}
	conn, record, ok := v.connect(ctx, purpose)
	if !ok {
		return nil, errNoConnection
	}
	defer conn.Close()
	hello := v.hello(tlswire.TLS13)
	change(&hello)
	session, err := tlswire.Handshake(conn, hello, tlswire.Options{Random: rand.Reader, Records: v.prober.limits.Records, Shares: []tlswire.Group{tlswire.X25519, tlswire.P256}})
	v.close(conn, record, err)
	if session == nil {
		return nil, err
	}
	return session.Chain.Certificates, err
}

// otherKey looks for a leaf with another kind of key. Up to TLS 1.2 the suites
// tell whether there can be one, in TLS 1.3 the signature schemes ask for it.
func (v *visit) otherKey(ctx context.Context, versions []tlswire.Version) {
	if v.leaf == nil {
		return
	}
	kind := v.leaf.PublicKey.Algorithm
	var wanted []tlswire.Suite
	older := slices.IndexFunc(versions, func(x tlswire.Version) bool { return x < tlswire.TLS13 })
	authentication := "ECDSA"
	if kind == pki.KeyEC || kind == pki.KeyEd25519 {
		authentication = "RSA"
	}
	change := func(h *tlswire.ClientHello) {
		h.Signatures = slices.DeleteFunc(slices.Clone(h.Signatures), func(s tlswire.SignatureScheme) bool { return s.RSA() != (authentication == "RSA") })
	}
	if older >= 0 {
		for _, s := range v.suites[versions[older]] {
			if s.Properties().Authentication == authentication || authentication == "RSA" && s.Properties().KeyExchange == "RSA" {
				wanted = append(wanted, s)
			}
		}
		if len(wanted) == 0 {
			return
		}
		change = func(h *tlswire.ClientHello) { h.Suites = wanted }
	}
	chain, _ := v.chain(ctx, "certificates with another kind of key", versions, change)
	if len(chain) == 0 || sameChain(chain, v.observation.Certificates) {
		return
	}
	v.observation.Others = append(v.observation.Others, facts.Served{To: "other-key", ServerName: v.call.ServerName, Certificates: chain})
}

// old asks for SSL 2.0, whose hello nothing else shares. Where everything older
// than TLS 1.2 is declined, nobody has it, and only full effort looks.
func (v *visit) old(ctx context.Context) {
	if versions := v.accepted(); v.call.Effort != facts.Full && len(versions) > 0 && versions[len(versions)-1] >= tlswire.TLS12 {
		return
	}
	conn, record, ok := v.connect(ctx, "offer SSL 2.0")
	if !ok {
		return
	}
	defer conn.Close()
	var challenge [16]byte
	_, _ = rand.Read(challenge[:]) // crypto/rand never fails
	answer, err := tlswire.ExchangeOld(conn, challenge)
	v.close(conn, record, err)
	fact := facts.Version{Name: tlswire.SSL20.String(), Answer: facts.Declined}
	var alert *tlswire.AlertError
	switch {
	case err == nil:
		fact.Answer, fact.Suites = facts.Accepted, answer.Ciphers
	case errors.As(err, &alert):
		fact.Detail = "alert " + alert.Alert.Name()
	case isTimeout(err):
		fact.Answer, fact.Detail = facts.NotShown, "no answer in time"
	default:
		fact.Detail = "connection closed"
	}
	v.answers[tlswire.SSL20] = fact
}
