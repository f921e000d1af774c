package probe

import (
	"context"
	"errors"
	"net/netip"
	"time"

	"nurvik/core/facts"
	"nurvik/core/plain"
	"nurvik/core/tlswire"
)

// errTime is why a visit ends early.
var errTime = errors.New("the time of the visit is over")

// usualEffort is how much is asked where nobody says. MySQL counts connections that end before the login as errors, and
// locks out the whole host at 100 of them (max_connect_errors).
func usualEffort(scheme string) facts.Effort {
	if scheme == "mysql" {
		return facts.Quick
	}
	return facts.Normal
}

// Visit waits until the host may be visited, and visits one address. From then
// on it ends within the limits. The error is the context's, when it ended the
// visit early, ErrBusy or an *ExhaustedError; then there is no observation.
func (p *Prober) Visit(ctx context.Context, address netip.AddrPort, call Call) (facts.Observation, error) {
	if call.Effort == "" {
		call.Effort = usualEffort(call.Scheme)
	}
	v := newVisit(&line{prober: p, address: address, scheme: call.Scheme, serverName: call.ServerName,
		quick: call.Effort == facts.Quick}, call)
	host, leave, err := p.gate.enter(ctx, address.Addr(), !call.NoQueue)
	switch {
	case err != nil:
		return facts.Observation{}, err
	case host == nil:
		return facts.Observation{}, ErrBusy
	}
	defer leave()
	limited, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	v.host, v.time = host, startStopwatch(p.limits.Visit, p.network.Now, func() { cancel(errTime) })
	defer v.time.pause()
	v.observation.At = p.network.Now().UTC().Truncate(time.Millisecond)
	defect := p.network.Report.Do(address.String(), func() { askEverything(limited, v) })
	switch {
	case ctx.Err() != nil:
		return facts.Observation{}, ctx.Err()
	case v.exhausted != nil:
		return facts.Observation{}, v.exhausted
	case defect != nil: // what was learnt until then may be half of something
		return facts.Observation{Address: address, ServerName: call.ServerName, At: v.observation.At,
			Outcome: facts.ExaminationFailed, Detail: facts.Because(facts.OwnDefect, defect.Reference)}, nil
	}
	if errors.Is(context.Cause(limited), errTime) && !v.observation.Cut.Given() {
		v.observation.Cut = facts.Because(facts.TimeOver, p.limits.Visit, len(v.connections))
	}
	o := v.conclude()
	plain.Clean(&o)
	return o, nil
}

// askEverything asks what the effort of the visit wants to know.
func askEverything(ctx context.Context, v *visit) {
	defer v.join()
	if !discover(ctx, v) {
		return
	}
	see(ctx, v)
	confirmIntolerance(ctx, v)
	if v.call.Effort == facts.Quick {
		confirmRefusals(ctx, v)
		return
	}
	enumerateSuites(ctx, v)
	askSettings(ctx, v)
	otherKeys(ctx, v)
	otherNames(ctx, v, "no-name", "", facts.ForNoName)
	groupOrder(ctx, v)
	enumerateSchemes(ctx, v)
	askSSL2(ctx, v)
	otherNames(ctx, v, "foreign-name", foreignName, facts.ForForeignName)
	confirmRefusals(ctx, v)
	v.join()
	askPlain(ctx, v)
}

// enumerateSuites finds all suites of each accepted version, the groups, and whose
// suiteOrder of preference counts. What was chosen is left out of the next offer
// until nothing of it is taken: k suites cost k+1 connections, the one of the
// discovery included.
func enumerateSuites(ctx context.Context, v *visit) {
	versions := v.accepted()
	classic := 0
	for _, version := range versions {
		if version < tlswire.TLS13 {
			classic++
		}
		furtherSuites(ctx, v, version, classic == 1)
	}
	enumerateGroups(ctx, v)
	for _, version := range versions {
		suiteOrder(ctx, v, version)
	}
}
