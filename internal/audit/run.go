package audit

import (
	"context"
	"slices"
	"sync"
	"time"

	"nurvik/core/chain"
	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/pki"
	"nurvik/core/policy"
	"nurvik/core/probe"
	"nurvik/internal/inquiry"
)

// Options say how an audit is run.
type Options struct {
	Prober   *probe.Prober
	Policy   policy.Policy
	At       time.Time
	Shared   judge.SharedStep      // the search for shared prime factors; nil leaves it out
	Progress func(done, total int) // called after each visit; may be nil
	Desk     *inquiry.Desk         // asks the issuers about endpoints; nil asks nothing
	Asking   func(done, total int) // called after each endpoint that was asked about; may be nil
	AskFiles bool                  // ask about files too
	Distrust []pki.Fingerprint     // certificates or keys that count for nothing
}

// Steps is the number of visits that Run will report progress of.
func (p *Plan) Steps() int { return len(p.visits) }

// Run visits the endpoints and judges everything. When the context ends, the
// report holds what is known until then, and the rest as unexamined.
func (p *Plan) Run(ctx context.Context, o Options) *Report {
	observed, errs := p.visit(ctx, o)
	known := p.known(observed)
	report := &Report{Schema: Schema, At: o.At.UTC().Truncate(time.Second), Policy: o.Policy.Name, Targets: []Target{}, Unexamined: p.unexamined}
	if report.Unexamined == nil {
		report.Unexamined = []Unexamined{}
	}
	context := judge.Context{Policy: o.Policy, Anchors: p.anchors, Known: known, Verifier: &chain.Verifier{}, At: o.At, Heap: p.heap, Bundles: p.heap, Distrust: map[pki.Fingerprint]bool{}}
	for _, f := range o.Distrust {
		context.Distrust[f] = true
	}
	if o.Shared != nil {
		var err error
		if context.Shared, err = judge.SharedPrimes(ctx, p.files, observed, o.Shared); err != nil {
			report.Unexamined = append(report.Unexamined, Unexamined{"shared prime factors", "interrupted before the search ended"})
		}
	}
	o.Desk.Complete(ctx, len(observed), func(i int) inquiry.Target {
		return inquiry.Target{Endpoint: &observed[i], Context: p.contextOf(i, observed[i], context)}
	}, o.Asking)
	if o.AskFiles {
		o.Desk.Complete(ctx, len(p.files), func(i int) inquiry.Target {
			return inquiry.Target{File: &p.files[i], Context: p.fileContext(context)}
		}, o.Asking)
	}
	judgements := p.judge(observed, context)
	noRoute := map[string]bool{}
	for i, v := range p.visits {
		e := observed[i]
		for _, address := range e.NoRoute {
			noRoute[address] = true
		}
		if len(e.Observations) == 0 && e.ResolveError == "" {
			reason := "no address has a route from here"
			if errs[i] != nil {
				reason = "interrupted before it was visited"
			}
			report.Unexamined = append(report.Unexamined, Unexamined{v.target.Endpoint.String(), reason})
			continue
		}
		j := judgements[i]
		report.add(Target{j, e})
		if j.Verdict == judge.Unreachable {
			report.Unexamined = append(report.Unexamined, Unexamined{j.Target, j.Findings[0].Message})
		}
	}
	for i, f := range p.files {
		report.add(Target{judgements[len(p.visits)+i], f})
	}
	for address := range noRoute {
		report.NoRoute = append(report.NoRoute, address)
	}
	slices.Sort(report.NoRoute)
	return report
}

// contextOf is the context that the i-th endpoint is judged by.
func (p *Plan) contextOf(i int, observed facts.Endpoint, common judge.Context) judge.Context {
	v := p.visits[i]
	common.Names, common.Trust, common.Audiences = v.names, v.trust, v.audiences
	return common.For(observed, v.authenticated)
}

// judge judges every endpoint and then the files, as many at once as there are processors.
func (p *Plan) judge(observed []facts.Endpoint, common judge.Context) []judge.Judgement {
	judgements := make([]judge.Judgement, len(p.visits))
	judge.InParallel(len(p.visits), func(i int) {
		judgements[i] = judge.Endpoint(observed[i], p.contextOf(i, observed[i], common))
	})
	if len(p.files) == 0 {
		return judgements
	}
	if p.heap {
		return append(judgements, judge.File(p.files[0], p.fileContext(common)))
	}
	files, _ := judge.Files(p.files, p.fileContext(common))
	return append(judgements, files...)
}

// fileContext is the context that files are judged by.
func (p *Plan) fileContext(common judge.Context) judge.Context {
	common.Names, common.Trust, common.Audiences = p.fileNames, p.trust, p.audiences
	return common
}

func (r *Report) add(t Target) {
	r.Targets = append(r.Targets, t)
	r.Summary.Count(t.Verdict)
	for _, f := range t.Findings {
		if f.Code == "chain.gave-up" { // its chain was not examined to the end
			r.Unexamined = append(r.Unexamined, Unexamined{t.Target, f.Message})
		}
	}
}

// visit examines every endpoint, as many at once as there may be connections.
func (p *Plan) visit(ctx context.Context, o Options) ([]facts.Endpoint, []error) {
	observed, errs := make([]facts.Endpoint, len(p.visits)), make([]error, len(p.visits))
	slots := make(chan struct{}, o.Prober.AtOnce())
	var group sync.WaitGroup
	var mutex sync.Mutex
	done := 0
	for i, v := range p.visits {
		slots <- struct{}{}
		group.Go(func() {
			defer func() { <-slots }()
			observed[i], errs[i] = o.Prober.Examine(ctx, v.target)
			mutex.Lock()
			defer mutex.Unlock()
			done++
			if o.Progress != nil {
				o.Progress(done, len(p.visits))
			}
		})
	}
	group.Wait()
	return observed, errs
}

// known collects every authority that was met: it may complete another chain.
func (p *Plan) known(observed []facts.Endpoint) *chain.Pool {
	seen := map[pki.Fingerprint]bool{}
	var out []*pki.Certificate
	add := func(der []byte) {
		id := pki.FingerprintOf(der)
		if seen[id] {
			return
		}
		seen[id] = true
		if c, err := pki.ParseCertificate(der); err == nil && c.IsCA() {
			out = append(out, c)
		}
	}
	for _, e := range observed {
		for _, o := range e.Observations {
			for _, der := range o.Certificates {
				add(der)
			}
		}
	}
	for _, f := range p.files {
		for _, item := range f.Certificates() {
			add(item.DER)
		}
	}
	return chain.NewPool(out)
}
