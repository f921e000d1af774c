package jobs

import (
	"cmp"
	"context"
	"net/netip"
	"time"

	"nurvik/core/facts"
	"nurvik/core/probe"
	"nurvik/internal/service/store"
)

// mostUnfinished is how many connections to a MySQL server may end before the login until nothing visits it any more:
// at 100 it locks out the whole host (max_connect_errors), and with it the programs of its administrator.
const mostUnfinished = 80

// vantageOf is from where a visit is made, as the counts know it.
func vantageOf(v store.Visit) string { return cmp.Or(v.Vantage, "local") }

// paused is what is stored instead of a visit to a server that is about to lock this machine out; nil where it may be
// visited.
func (q *Queue) paused(ctx context.Context, visit store.Visit, call probe.Call) (*facts.Observation, error) {
	if call.Scheme != "mysql" {
		return nil, nil
	}
	u, err := q.store.Unfinished(ctx, vantageOf(visit), visit.Address)
	if err != nil || u.Connections < mostUnfinished {
		return nil, err
	}
	address, err := netip.ParseAddrPort(visit.Address)
	if err != nil {
		return nil, err
	}
	return &facts.Observation{Address: address, Vantage: visit.Vantage, ServerName: visit.ServerName,
		At: q.options.Now(), Outcome: facts.Busy,
		Detail: facts.Because(facts.LockNear, u.Connections, u.Since.UTC().Format(time.DateOnly))}, nil
}

// countUnfinished adds the connections of a visit.
func (q *Queue) countUnfinished(ctx context.Context, visit store.Visit, call probe.Call, o facts.Observation) error {
	if call.Scheme != "mysql" {
		return nil
	}
	return q.store.AddUnfinished(ctx, store.UnfinishedLogins{Vantage: vantageOf(visit), Address: visit.Address,
		Connections: len(o.Connections), Since: q.options.Now()})
}
