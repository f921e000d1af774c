package probe

import (
	"context"
	"net/netip"
	"time"

	"nurvik/core/facts"
	"nurvik/core/pki"
)

// Page asks the plain HTTP server at the address for a path of the host, with the courtesy of visits. A redirect is
// told and not followed.
func (p *Prober) Page(ctx context.Context, address netip.AddrPort, host, path string) facts.Plain {
	fact := facts.Plain{Address: address.String()}
	h, leave, err := p.gate.enter(ctx, address.Addr(), true)
	if err != nil {
		fact.Failure = facts.Because(facts.NotTried)
		return fact
	}
	defer leave()
	if err := p.gate.pass(ctx, h); err != nil {
		fact.Failure = facts.Because(facts.NotTried)
		return fact
	}
	defer p.gate.passed()
	dialing, cancel := context.WithTimeout(ctx, p.limits.Connect)
	defer cancel()
	conn, err := p.network.Dial(dialing, address)
	switch {
	case ctx.Err() != nil, Exhausted(err) != nil:
		fact.Failure = facts.Because(facts.NotTried)
	case err != nil:
		fact.Failure = facts.Because(facts.NothingAnswers)
	}
	if fact.Failure.Given() {
		return fact
	}
	defer conn.Close()
	defer context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })()
	// A connection that refuses a deadline fails at the first read.
	_ = conn.SetDeadline(p.network.Now().Add(p.limits.Handshake))
	response, err := get(conn, host, path, address)
	if err != nil {
		fact.Failure = facts.Because(facts.NoHTTP)
		return fact
	}
	fact.Status, fact.Location = response.status, pki.Printable(response.header.Get("Location"))
	return fact
}
