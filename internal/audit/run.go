package audit

import (
	"context"
	"slices"
	"sync"
	"time"

	"nurvik/core/assess"
	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/pairing"
	"nurvik/core/pki"
	"nurvik/core/probe"
	"nurvik/internal/inquiry"
)

// Options say how an audit is run.
type Options struct {
	Prober   *probe.Prober
	At       time.Time
	Shared   judge.SharedStep      // the search for shared prime factors; nil leaves it out
	Progress func(done, total int) // called after each visit; may be nil
	Renewals Renewals              // looks at what renewals will meet; nil looks at nothing
	Desk     *inquiry.Desk         // asks the issuers about endpoints; nil asks nothing
	Asking   func(done, total int) // called after each endpoint that was asked about; may be nil
	AskFiles bool                  // ask about files too
	Distrust []pki.Fingerprint     // certificates or keys that count for nothing
	Bare     bool                  // of files only the findings are asked for, not their chains
}

// Steps is the number of visits that Run will report progress of.
func (p *Plan) Steps() int { return len(p.visits) }

// Run visits the endpoints and judges everything. When the context ends, the
// report holds what is known until then, and the rest as unexamined.
func (p *Plan) Run(ctx context.Context, o Options) *Report {
	observed, errs := p.visit(ctx, o)
	p.lookAhead(ctx, o, observed)
	judging, cancel := context.WithCancel(context.WithoutCancel(ctx))
	defer cancel()
	engine := assess.New(assess.Options{At: o.At, Anchors: p.anchors, Memory: p.memory, Distrust: o.Distrust,
		Heap: p.heap, Unordered: p.heap && p.unordered, Bare: o.Bare && len(o.Distrust) == 0, Report: p.report,
		Run: judging})
	engine.LearnFacts(observed, p.files)
	engine.LearnFacts(nil, p.sources)
	report := &Report{Schema: Schema, At: o.At.UTC().Truncate(time.Second), Policy: p.Policy().Name,
		Targets: []Target{}, Unexamined: p.unexamined, Linked: p.linked}
	if report.Unexamined == nil {
		report.Unexamined = []Unexamined{}
	}
	if o.Shared != nil {
		if err := engine.FindSharedPrimes(ctx, p.files, observed, o.Shared); err != nil {
			report.Unexamined = append(report.Unexamined,
				Unexamined{"shared prime factors", "interrupted before the search ended"})
		}
	}
	engine.Ready()
	o.Desk.Complete(ctx, len(observed), func(i int) inquiry.Target {
		return inquiry.Target{Endpoint: &observed[i], Engine: engine, Expected: p.visits[i].expected}
	}, o.Asking)
	if o.AskFiles {
		o.Desk.Complete(ctx, len(p.files), func(i int) inquiry.Target {
			return inquiry.Target{File: &p.files[i], Engine: engine, Expected: p.ofFiles}
		}, o.Asking)
	}
	defer context.AfterFunc(ctx, func() { time.AfterFunc(grace, cancel) })()
	judgements := engine.Endpoints(observed, func(i int) assess.Expectation { return p.visits[i].expected })
	var ofFiles, ofServers []judge.Judgement
	var together *pairing.Result
	if len(p.files) > 0 {
		ofFiles, together = engine.Files(p.files, p.ofFiles)
	}
	if len(p.configurations) > 0 {
		ofServers = engine.Configurations(p.configurations, p.files, ofFiles, together, p.ofFiles)
	}
	if len(p.places) > 0 {
		here := judge.Machine{Configurations: p.configurations, Judged: ofServers, Files: p.files, Together: together,
			Places: p.places, Trust: slices.Concat(p.ofFiles.Trust, p.ofFiles.Audiences)}
		report.Deployments = engine.Reconcile([]judge.Machine{here}, observed, judgements,
			func(i int) assess.Expectation { return p.visits[i].expected })
	}
	engine.ReplacedElsewhere(observed, judgements)
	noRoute := map[string]bool{}
	for i, v := range p.visits {
		e := observed[i]
		for _, address := range e.NoRoute {
			noRoute[address] = true
		}
		if len(e.Observations) == 0 && !e.ResolveError.Given() {
			reason := "no address has a route from here"
			if exhausted := probe.Exhausted(errs[i]); exhausted != nil {
				reason = exhausted.Error()
			} else if errs[i] != nil {
				reason = "interrupted before it was visited"
			}
			report.Unexamined = append(report.Unexamined, Unexamined{v.target.Endpoint.String(), reason})
			continue
		}
		if exhausted := probe.Exhausted(errs[i]); exhausted != nil {
			report.Unexamined = append(report.Unexamined, Unexamined{v.target.Endpoint.String(), exhausted.Error()})
		}
		if e.Undecided() {
			continue
		}
		j := judgements[i]
		if !report.add(Target{j, e}) {
			continue
		}
		report.unlearnt(e)
		if j.Verdict == judge.Unreachable {
			report.Unexamined = append(report.Unexamined, Unexamined{j.Target, j.Findings[0].Message})
		}
	}
	for i := range p.configurations {
		report.add(Target{ofServers[i], p.configurations[i]})
	}
	for i, f := range p.files {
		report.add(Target{ofFiles[i], f})
	}
	for address := range noRoute {
		report.NoRoute = append(report.NoRoute, address)
	}
	slices.Sort(report.NoRoute)
	return report
}

// grace is how long judging may go on when the run is interrupted: what was learnt until then is worth a judgement.
const grace = 500 * time.Millisecond

// incomplete are the codes of what was not examined to the end, and blind those
// that say so where no certificate was seen.
var (
	incomplete = map[string]bool{"chain.gave-up": true, "reach.examination-failed": true,
		"reach.certificate-unseen": true}
	blind = map[string]bool{"reach.too-slow": true, "reach.too-much": true, "reach.cut-short": true}
)

func sawCertificate(known any) bool {
	e, ok := known.(facts.Endpoint)
	return ok && slices.ContainsFunc(e.Observations, func(o facts.Observation) bool { return len(o.Certificates) > 0 })
}

// add takes in a target, if it was judged.
func (r *Report) add(t Target) bool {
	if t.Verdict == "" {
		r.Unexamined = append(r.Unexamined, Unexamined{t.Target, "interrupted before it was judged"})
		return false
	}
	r.Targets = append(r.Targets, t)
	r.Summary.Count(t.Verdict)
	for _, f := range t.Findings {
		if incomplete[f.Code] || blind[f.Code] && !sawCertificate(t.Facts) {
			r.Unexamined = append(r.Unexamined, Unexamined{t.Target, f.Message})
		}
	}
	return true
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
