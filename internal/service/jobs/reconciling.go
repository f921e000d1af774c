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
)

// reconcile compares what the endpoints serve with what the machines hold and are told, and with what other endpoints
// serve, and adds what it finds to their judgements.
func (q *Queue) reconcile(ctx context.Context, audit int64, library *assess.Library,
	engine *assess.Engine, observed []facts.Endpoint,
	judgements []judge.Judgement, expected func(i int) assess.Expectation) error {
	machines, err := q.machines(ctx, library, engine, observed)
	if err != nil {
		return err
	}
	at := map[string]int{}
	for i := range judgements {
		at[judgements[i].Target] = i
	}
	for _, d := range engine.Reconcile(machines, observed, judgements, expected) {
		j := &judgements[at[d.Endpoint]]
		j.Deployments = append(j.Deployments, d)
	}
	// Endpoints that are not in this audit serve what they served last.
	others, err := q.store.ServedElsewhere(ctx, audit, namesServed(observed))
	if err != nil {
		return err
	}
	all, more := observed[:len(observed):len(observed)], judgements[:len(judgements):len(judgements)]
	for _, x := range others {
		all, more = append(all, x), append(more, judge.Judgement{Target: x.Endpoint})
	}
	engine.ReplacedElsewhere(all, more)
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

// machines are the holdings with configuration that names some of the endpoints.
func (q *Queue) machines(ctx context.Context, library *assess.Library, engine *assess.Engine,
	observed []facts.Endpoint) ([]judge.Machine, error) {
	holdings, err := q.store.ConfiguredHoldings(ctx)
	if err != nil {
		return nil, err
	}
	var out []judge.Machine
	for _, h := range holdings {
		all, err := q.store.AllHoldingFiles(ctx, h.ID)
		if err != nil {
			return nil, err
		}
		files, configurations := configurationsOf(all)
		m := judge.Machine{Name: h.Name, Known: h.SentAt, Configurations: configurations, Files: files,
			Places: judge.PlacesOf(h.Name, configurations, observed)}
		if len(m.Places) == 0 {
			continue
		}
		x := library.Expect(endpoint.Settings{Policy: h.Policy, Trust: h.Trust, Audiences: h.Audiences})
		m.Trust = slices.Concat(x.Trust, x.Audiences)
		q.options.Report.Do("holding "+h.Name, func() {
			m.Together = pairing.Pair(files, &brief.Memory{}, engine.At())
		})
		out = append(out, m)
	}
	return out, nil
}
