package probe

import (
	"context"
	"nurvik/core/facts"
	"nurvik/core/tlswire"
	"slices"
	"time"
)

// askResumption tries to go on with a session of TLS 1.3, and of the newest older version.
func askResumption(ctx context.Context, v *visit) {
	versions := v.accepted()
	if len(versions) > 0 && versions[0] == tlswire.TLS13 {
		resumeModern(ctx, v)
	}
	if i := slices.IndexFunc(versions, func(x tlswire.Version) bool {
		return x < tlswire.TLS13 &&
			x > tlswire.SSL30
	}); i >= 0 {
		resumeOlder(ctx, v, versions[i])
	}
}

// noteResumption notes whether a session of the version went on. One that does is enough.
func noteResumption(v *visit, version tlswire.Version, yes bool) {
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
func resumeModern(ctx context.Context, v *visit) {
	session := func(purpose facts.Reason, ticket *tlswire.SessionTicket) (given *tlswire.SessionTicket,
		s *tlswire.Session) {
		hello := v.hello(tlswire.TLS13)
		if v.call.Web && v.protocols == nil {
			hello.Protocols = []string{"http/1.1"}
		}
		hello.Resume = ticket
		s, err := v.whole(ctx, purpose, hello, func(conn *countingConn, s *tlswire.Session) {
			if ticket != nil {
				return
			}
			if v.call.Web { // some give tickets with the first answer only
				_, _ = get(s, v.call.ServerName, "/", v.observation.Address)
			}
			conn.allow(min(ticketWait, v.prober.limits.Handshake))
			given, _ = s.SessionTicket()
		})
		if err != nil {
			return nil, nil
		}
		return given, s
	}
	ticket, first := session(facts.Because(facts.ForSession, tlswire.TLS13), nil)
	if first == nil || !first.Finished {
		return
	}
	if ticket == nil {
		noteResumption(v, tlswire.TLS13, false)
		return
	}
	v.observation.Settings.SessionTickets = facts.Yes
	if _, second := session(facts.Because(facts.ForResumption, tlswire.TLS13), ticket); second != nil {
		noteResumption(v, tlswire.TLS13, second.Resumed && second.Finished)
	}
}

// ticketWait is how long a ticket may come after the handshake: with it, or never.
const ticketWait = 2 * time.Second

// resumeOlder goes on with a session of a version up to TLS 1.2, by its ticket
// (RFC 5077) or identifier (RFC 5246, 7.3).
func resumeOlder(ctx context.Context, v *visit, version tlswire.Version) {
	session := func(purpose facts.Reason, change func(*tlswire.ClientHello)) *tlswire.Session {
		hello := v.hello(version)
		hello.Compression, hello.MACFirst = false, true
		change(&hello)
		session, err := v.whole(ctx, purpose, hello, nil)
		if err != nil {
			return nil
		}
		return session
	}
	first := session(facts.Because(facts.ForSession, version), func(*tlswire.ClientHello) {})
	if first == nil || !first.Finished {
		return
	}
	if !first.TicketGiven && len(first.Hello.SessionID) == 0 {
		noteResumption(v, version, false)
		return
	}
	second := session(facts.Because(facts.ForResumption, version), func(h *tlswire.ClientHello) {
		h.Ticket, h.SessionID = first.Ticket, first.Hello.SessionID
		if first.TicketGiven { // any identifier will do, and its echo tells
			h.SessionID = slices.Clone(h.Random[:])
		}
	})
	if second != nil {
		noteResumption(v, version, second.Resumed)
	}
}
