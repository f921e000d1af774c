package jobs

import (
	"cmp"
	"context"
	"errors"
	"slices"

	"github.com/riverqueue/river"

	"nurvik/core/facts"
	"nurvik/internal/service/store"
)

// lookUp finds the addresses of an endpoint at this vantage, where its name may lead elsewhere, and has them visited.
func (w *visitWorker) lookUp(ctx context.Context, lookup store.Visit, last bool) error {
	q := w.queue
	e, err := q.store.Endpoint(ctx, lookup.EndpointID)
	if err != nil {
		return ignoreMissing(err)
	}
	f, addresses, serverName, err := q.planOne(ctx, e)
	if errors.Is(err, ErrNotTaken) {
		return busy(0)
	}
	if err != nil && !last {
		return err
	}
	if ctx.Err() != nil && !last {
		return ctx.Err() // cut off, it goes on at the next start
	}
	lookup.State, lookup.Lookup = store.VisitDone, &f
	switch {
	case err != nil:
		lookup.State, lookup.Lookup, lookup.Failure = store.VisitFailed, nil, err.Error()
	case len(f.Unvisited) > 0:
		lookup.State, lookup.Lookup, lookup.Failure = store.VisitFailed, nil, exhausted
	}
	var visits []store.Visit
	for _, address := range addresses {
		visits = append(visits, store.Visit{AuditID: lookup.AuditID, EndpointID: e.ID, Vantage: lookup.Vantage,
			Address: address.String(), ServerName: serverName, State: store.VisitWaiting})
	}
	return q.store.Tx(ctx, func(tx *store.Tx) error {
		held, err := tx.HoldAudit(lookup.AuditID, store.Planning, store.Visiting)
		if err != nil || held == nil {
			return err
		}
		saved, ours, err := tx.AddVisits(lookup, visits)
		if err != nil || !ours {
			return err
		}
		if err := tx.Count(held, func(s *store.Summary) { s.Visits += len(saved) }); err != nil {
			return err
		}
		list := make([]river.JobArgs, len(saved))
		for i, v := range saved {
			list[i] = jobOf(v, held.Schedule != "")
		}
		return q.put(ctx, tx, list...)
	})
}

// exhausted is why nothing was looked up.
const exhausted = "not looked up: the machine there had run out of file descriptors, local ports or memory"

// observedAt are the facts of an endpoint, with what its visits brought.
func observedAt(x store.Examined, visits []store.Visit) facts.Endpoint {
	out := facts.Endpoint{Schema: facts.Schema, Endpoint: x.Endpoint.Target}
	if x.Facts != nil {
		out = *x.Facts
	}
	out.Observations = nil
	for _, v := range byVantage(visits) {
		switch {
		case v.State == store.VisitFailed:
			out.Unvisited = append(out.Unvisited, placeOf(v))
			if v.Address == "" {
				out.Vantages = append(out.Vantages, facts.Vantage{Name: v.Vantage, Unvisited: v.Failure})
			}
		case v.Observation != nil:
			out.Observations = append(out.Observations, *v.Observation)
		case v.Lookup != nil:
			out.Vantages = append(out.Vantages, facts.Vantage{Name: v.Vantage, ResolveError: v.Lookup.ResolveError})
			for _, address := range v.Lookup.NoRoute {
				out.NoRoute = append(out.NoRoute, facts.PlaceFrom(address, v.Vantage))
			}
			if out.DNS == nil {
				out.DNS = v.Lookup.DNS
			}
		}
	}
	if len(out.Observations) == 0 && len(out.Unvisited) == 0 && !out.ResolveError.Given() {
		for _, vantage := range out.Vantages { // it leads nowhere from any of them
			if out.ResolveError = vantage.ResolveError; !out.ResolveError.Given() {
				break
			}
		}
	}
	return out
}

// byVantage puts the visits in the order in which the endpoint names its vantages: which of them was quicker makes no
// difference.
func byVantage(visits []store.Visit) []store.Visit {
	ranks := map[string]int{}
	for i, v := range visits {
		if _, known := ranks[v.Vantage]; v.Address == "" && !known {
			ranks[v.Vantage] = i
		}
	}
	return slices.SortedStableFunc(slices.Values(visits), func(a, b store.Visit) int {
		return cmp.Compare(ranks[a.Vantage], ranks[b.Vantage])
	})
}

// placeOf is what a visit was to visit, in words.
func placeOf(v store.Visit) string {
	address := v.Address
	if address == "" {
		address = "all addresses"
	}
	return facts.PlaceFrom(address, v.Vantage)
}
