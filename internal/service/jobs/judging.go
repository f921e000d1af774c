package jobs

import (
	"context"
	"fmt"
	"time"

	"github.com/riverqueue/river"

	"nurvik/core/chain"
	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/naming"
	"nurvik/core/pki"
	"nurvik/core/policy"
	"nurvik/core/trust"
	"nurvik/internal/inquiry"
	"nurvik/internal/service/store"
)

// judgeArgs is the job that judges an audit.
type judgeArgs struct {
	AuditID int64 `json:"audit_id"`
}

// Kind implements river.JobArgs.
func (judgeArgs) Kind() string { return "judge" }

type judgeWorker struct {
	river.WorkerDefaults[judgeArgs]
	queue *Queue
}

// Work judges every endpoint and ends the audit, all in one transaction.
func (w *judgeWorker) Work(ctx context.Context, job *river.Job[judgeArgs]) error {
	q, audit := w.queue, job.Args.AuditID
	return q.guard(ctx, audit, job.Attempt >= job.MaxAttempts, func() error {
		a, err := q.store.Audit(ctx, audit)
		if err != nil || a.State != store.Judging {
			return ignoreMissing(err)
		}
		return q.judge(ctx, a)
	})
}

func (q *Queue) judge(ctx context.Context, a store.Audit) error {
	examined, err := q.store.Examined(ctx, a.ID)
	if err != nil {
		return err
	}
	observed, met, err := q.observed(ctx, a.ID)
	if err != nil {
		return err
	}
	bench, err := q.bench(ctx, a, met)
	if err != nil {
		return err
	}
	complete := bench.complete(ctx, q.options.Desk, examined, observed)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	now := q.options.Now()
	return q.store.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.SaveCertificates(met, now); err != nil {
			return err
		}
		for i, x := range examined {
			f := complete[i]
			if len(f.Observations) == 0 && f.ResolveError == "" {
				continue // no address could be visited from here: the last verdict stands
			}
			if err := tx.SaveJudgement(a.ID, x.Endpoint.ID, f, judge.Endpoint(f, bench.contextOf(x.Endpoint, f)), now); err != nil {
				return fmt.Errorf("%s: %w", x.Endpoint.Target, err)
			}
		}
		if err := q.judgeHoldings(ctx, tx, bench, now); err != nil {
			return err
		}
		_, err := tx.Move(a.ID, store.Finished, now, store.Judging)
		return err
	})
}

// observed returns the observations by endpoint and every certificate that was met.
func (q *Queue) observed(ctx context.Context, audit int64) (map[int64][]facts.Observation, []*pki.Certificate, error) {
	observed := map[int64][]facts.Observation{}
	seen := map[pki.Fingerprint]bool{}
	var met []*pki.Certificate
	err := q.store.Observations(ctx, audit, func(v store.Visit) {
		if v.Observation == nil {
			return
		}
		observed[v.EndpointID] = append(observed[v.EndpointID], *v.Observation)
		for _, der := range v.Observation.Certificates {
			if c, err := pki.ParseCertificate(der); err == nil && !seen[c.Fingerprint()] {
				seen[c.Fingerprint()] = true
				met = append(met, c)
			}
		}
	})
	return observed, met, err
}

// bench is everything that judging needs beside the facts.
type bench struct {
	context judge.Context
	stores  map[string]*trust.Store
	loader  *trust.Loader
	known   []*pki.Certificate // every authority that was met
}

func (q *Queue) bench(ctx context.Context, a store.Audit, met []*pki.Certificate) (*bench, error) {
	p, err := policyOf(a)
	if err != nil {
		return nil, err
	}
	records, err := q.store.TrustStores(ctx)
	if err != nil {
		return nil, err
	}
	b := &bench{stores: map[string]*trust.Store{}, loader: &trust.Loader{}}
	var all []*trust.Store
	for _, r := range records {
		b.stores[r.Name] = storeOf(r)
		all = append(all, b.stores[r.Name])
	}
	authorities, err := q.store.Authorities(ctx)
	if err != nil {
		return nil, err
	}
	known := []*pki.Certificate{}
	for _, der := range authorities {
		if c, err := pki.ParseCertificate(der); err == nil {
			known = append(known, c)
		}
	}
	for _, c := range met {
		if c.IsCA() {
			known = append(known, c)
		}
	}
	b.known = known
	b.context = judge.Context{Policy: p, Verifier: &chain.Verifier{}, Known: chain.NewPool(known), Anchors: trust.Merge("all", all...), At: momentOf(a, q.options.Now())}
	return b, nil
}

// policyOf is the policy of an audit: its own, or a built-in one.
func policyOf(a store.Audit) (p policy.Policy, err error) {
	if a.PolicyFile != "" {
		p, err = policy.Parse(a.Policy, []byte(a.PolicyFile))
	} else {
		p, err = policy.Builtin(a.Policy)
	}
	p.Chosen = a.PolicyChosen
	return p, err
}

func momentOf(a store.Audit, now time.Time) time.Time {
	if a.AsOf != nil {
		return *a.AsOf
	}
	return now
}

func storeOf(r store.TrustStore) *trust.Store {
	var anchors []trust.Anchor
	for _, a := range r.Anchors {
		if c, err := pki.ParseCertificate(a.DER); err == nil {
			anchors = append(anchors, trust.Anchor{Certificate: c, Kind: a.Kind})
		}
	}
	return trust.New(r.Name, anchors)
}

// contextOf is what the endpoint is judged by.
func (b *bench) contextOf(e store.Endpoint, observed facts.Endpoint) judge.Context {
	context := b.context
	for _, text := range e.Names {
		if name, err := naming.Parse(text); err == nil {
			context.Names = append(context.Names, name)
		}
	}
	trusted := e.Trust
	if len(e.Trust)+len(e.Audiences) == 0 {
		trusted = []string{trust.SystemName}
	}
	context.Trust, context.Audiences = b.named(trusted), b.named(e.Audiences)
	return context.For(observed, e.Authenticated)
}

// complete puts the facts of each endpoint together and asks the issuers.
func (b *bench) complete(ctx context.Context, desk *inquiry.Desk, examined []store.Examined, observed map[int64][]facts.Observation) []facts.Endpoint {
	out := make([]facts.Endpoint, len(examined))
	contexts := make([]judge.Context, len(examined))
	for i, x := range examined {
		out[i] = facts.Endpoint{Schema: facts.Schema, Endpoint: x.Endpoint.Target}
		if x.Facts != nil {
			out[i] = *x.Facts
		}
		out[i].Observations = observed[x.Endpoint.ID]
		contexts[i] = b.contextOf(x.Endpoint, out[i])
	}
	desk.Complete(ctx, len(out), func(i int) inquiry.Target { return inquiry.Target{Endpoint: &out[i], Context: contexts[i]} }, nil)
	return out
}

// named finds stores by name. One that is gone, or a system without anchors,
// accepts nothing, which the findings then say by its name.
func (b *bench) named(names []string) []*trust.Store {
	var out []*trust.Store
	for _, name := range names {
		s, ok := b.stores[name]
		if !ok {
			s = trust.New(name, nil)
			if name == trust.SystemName {
				if system, err := b.loader.System(); err == nil {
					s = system
				}
			}
			b.stores[name] = s
		}
		out = append(out, s)
	}
	return out
}
