package jobs

import (
	"context"
	"slices"

	"nurvik/core/assess"
	"nurvik/core/brief"
	"nurvik/core/endpoint"
	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/pairing"
	"nurvik/core/pki"
	"nurvik/internal/service/store"
)

// reconcile compares what the endpoints serve with what the machines hold and are told, and with what other endpoints
// serve, and adds what it finds to their judgements.
func (q *Queue) reconcile(ctx context.Context, c closing, portion []store.Examined, observed []facts.Endpoint,
	judgements []judge.Judgement, expected func(i int) assess.Expectation) error {
	at := map[string]int{}
	for i := range judgements {
		at[judgements[i].Target] = i
	}
	for _, d := range c.engine.Reconcile(c.machines.of(observed), observed, judgements, expected) {
		j := &judgements[at[d.Endpoint]]
		j.Deployments = append(j.Deployments, d)
	}
	others, err := q.store.ServedElsewhere(ctx, portion, namesServed(observed))
	if err != nil {
		return err
	}
	all, more := observed[:len(observed):len(observed)], judgements[:len(judgements):len(judgements)]
	for _, x := range others {
		all, more = append(all, x), append(more, judge.Judgement{Target: x.Endpoint})
	}
	c.engine.ReplacedElsewhere(all, more)
	copy(judgements, more)
	return nil
}

// namesServed are the names of the leaves that endpoints serve, each once.
func namesServed(observed []facts.Endpoint) (out []string) {
	met := map[string]bool{}
	for i := range observed {
		for _, o := range observed[i].Observations {
			if len(o.Certificates) == 0 {
				continue
			}
			leaf, err := pki.ParseCertificate(o.Certificates[0])
			if err != nil {
				continue
			}
			for _, name := range leaf.HostNames() {
				if !met[name] {
					met[name], out = true, append(out, name)
				}
			}
		}
	}
	return out
}

// machines are the holdings with configuration.
type machines struct {
	all  []judge.Machine
	pair func(m *judge.Machine) // what its files are to each other, which is worked out for those that are wanted
}

// machines reads the holdings with configuration.
func (q *Queue) machines(ctx context.Context, library *assess.Library, engine *assess.Engine) (*machines, error) {
	holdings, err := q.store.ConfiguredHoldings(ctx)
	if err != nil {
		return nil, err
	}
	out := &machines{pair: func(m *judge.Machine) {
		q.options.Report.Do("holding "+m.Name, func() {
			m.Together = pairing.Pair(m.Files, &brief.Memory{}, engine.At())
		})
	}}
	for _, h := range holdings {
		all, err := q.store.AllHoldingFiles(ctx, h.ID)
		if err != nil {
			return nil, err
		}
		files, configurations := configurationsOf(all)
		x := library.Expect(endpoint.Settings{Policy: h.Policy, Trust: h.Trust, Audiences: h.Audiences})
		out.all = append(out.all, judge.Machine{Name: h.Name, Known: h.SentAt, Configurations: configurations,
			Files: files, Trust: slices.Concat(x.Trust, x.Audiences)})
	}
	return out, nil
}

// of returns those that name some of the endpoints, with the places.
func (ms *machines) of(observed []facts.Endpoint) (out []judge.Machine) {
	for i := range ms.all {
		m := &ms.all[i]
		places := judge.PlacesOf(m.Name, m.Configurations, observed)
		if len(places) == 0 {
			continue
		}
		if m.Together == nil {
			ms.pair(m)
		}
		here := *m
		here.Places = places
		out = append(out, here)
	}
	return out
}
