// Package assess is the one engine of judging. It puts together what facts are
// judged by (policy, trust stores, certificates that are known, names,
// audiences, what is known of revocation) and judges them. The client, the
// service and the browser differ only in where facts and stores come from.
package assess

import (
	"context"
	"slices"
	"time"

	"nurvik/core/brief"
	"nurvik/core/chain"
	"nurvik/core/endpoint"
	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/naming"
	"nurvik/core/pairing"
	"nurvik/core/pki"
	"nurvik/core/policy"
	"nurvik/core/rescue"
	"nurvik/core/trust"
)

// Expectation is what is expected of one endpoint, or of files.
type Expectation struct {
	Policy        policy.Policy
	Names         []naming.Reference // that must be covered
	Purpose       judge.Purpose      // of certificates in files; "" is found out for each
	Trust         []*trust.Store     // one of them must accept
	Audiences     []*trust.Store     // all of them must accept
	Authenticated bool               // clients verify certificates, even where that is not usual
	// the names in CAA records by which CAs go, by common name or organisation
	CAAIssuers map[string][]string
}

// Options say how everything is judged. The zero value judges as of the year 1.
type Options struct {
	At        time.Time
	Anchors   []*trust.Store // every store that is known: what leads to none of those expected may lead to another
	Memory    *brief.Memory  // of what was decoded; nil for none
	Distrust  []pki.Fingerprint
	Heap      bool            // files are one heap of certificates
	Unordered bool            // the heap came from where files have no order
	Bare      bool            // chains and certificates are left out of the judgements of files
	Material  bool            // files are judged as material only: form, keys and pairs, no chains
	Report    rescue.Report   // takes defects of the judging itself to the log; nil drops them
	Run       context.Context // judging ends with it, for what is left without a verdict; nil for never
}

// Engine judges. It learns certificates first, and may then be used by several goroutines.
type Engine struct {
	common judge.Context
	known  []*pki.Certificate
	seen   map[pki.Fingerprint]bool
}

// New makes an engine.
func New(o Options) *Engine {
	e := &Engine{seen: map[pki.Fingerprint]bool{}, common: judge.Context{
		At: o.At, Memory: o.Memory, Anchors: trust.Merge("all", o.Anchors...),
		Heap: o.Heap, Bundles: o.Heap, Unordered: o.Unordered, Material: o.Material, Bare: o.Bare,
		Report: o.Report, Run: o.Run, Distrust: map[pki.Fingerprint]bool{},
	}}
	e.common.Share()
	for _, f := range o.Distrust {
		e.common.Distrust[f] = true
	}
	return e
}

// At is the time as of which the engine judges.
func (e *Engine) At() time.Time { return e.common.At }

// Learn takes in certificates: those of CAs may complete a chain that lacks them.
func (e *Engine) Learn(ders ...[]byte) {
	for _, der := range ders {
		id := pki.FingerprintOf(der)
		if e.seen[id] {
			continue
		}
		e.seen[id] = true
		e.common.Report.Do("a certificate", func() {
			if c, err := pki.ParseCertificate(der); err == nil && c.IsCA() {
				e.known = append(e.known, c)
				e.common.Known = nil
			}
		})
	}
}

// LearnFacts takes in what endpoints served and files hold.
func (e *Engine) LearnFacts(observed []facts.Endpoint, files []facts.File) {
	for _, f := range observed {
		for _, o := range f.Observations {
			e.Learn(o.Certificates...)
		}
	}
	for _, f := range files {
		for i := range f.Items {
			item := &f.Items[i]
			switch item.Kind {
			case facts.Certificate:
				if b := item.Learnt(); b == nil || b.CA { // of many leaves nothing is to be learnt
					e.Learn(item.DER)
				}
			case facts.RevocationList:
				e.learnList(f.Path, item.DER)
			}
		}
	}
}

// learnList takes in a CRL that lies in a file.
func (e *Engine) learnList(path string, der []byte) {
	e.common.Report.Do(path, func() {
		list, err := pki.ParseRevocationList(der)
		if err != nil {
			return
		}
		if e.common.Lists == nil {
			e.common.Lists = map[string][]judge.List{}
		}
		key := list.Issuer.Key()
		e.common.Lists[key] = append(e.common.Lists[key], judge.List{Path: path, RevocationList: list})
	})
}

// Ready ends the learning. It is called by whoever judges in several goroutines.
func (e *Engine) Ready() *Engine {
	if e.common.Known == nil {
		e.common.Known = chain.NewPool(e.known)
		for _, lists := range e.common.Lists {
			judge.SortLists(lists)
		}
	}
	return e
}

// FindSharedPrimes looks for prime factors that different RSA keys have in
// common. The error is the context's; then nothing is known of them.
func (e *Engine) FindSharedPrimes(ctx context.Context, files []facts.File, observed []facts.Endpoint,
	step judge.SharedStep) (err error) {
	e.common.Shared, err = judge.SharedPrimes(ctx, e.common.Memory, files, observed, step)
	return err
}

// Endpoint judges what was observed of an endpoint.
func (e *Engine) Endpoint(f facts.Endpoint, x Expectation) judge.Judgement {
	return judge.Endpoint(f, e.contextOf(f, x))
}

// Endpoints judges many, as many at once as there are processors.
func (e *Engine) Endpoints(observed []facts.Endpoint, expected func(i int) Expectation) []judge.Judgement {
	e.Ready()
	out := make([]judge.Judgement, len(observed))
	judge.InParallel(len(observed), func(i int) { out[i] = e.Endpoint(observed[i], expected(i)) })
	return out
}

// Files judges files by themselves and together. A heap is one file.
func (e *Engine) Files(files []facts.File, x Expectation) ([]judge.Judgement, *pairing.Result) {
	if e.common.Heap && len(files) == 1 {
		return []judge.Judgement{judge.File(files[0], e.fileContext(x))}, nil
	}
	return judge.Files(files, e.fileContext(x))
}

// Configurations judges what servers are told, with the files of the same machine and what is known of them together.
// The judgements of those files are changed where a configuration says more of them.
func (e *Engine) Configurations(all []facts.Configuration, files []facts.File, ofFiles []judge.Judgement,
	together *pairing.Result, x Expectation) []judge.Judgement {
	return judge.Configurations(all, files, ofFiles, together, e.fileContext(x))
}

// Reconcile compares disk, configuration and wire at each place of the machines; what it finds is added to the
// judgements of the endpoints.
func (e *Engine) Reconcile(machines []judge.Machine, observed []facts.Endpoint, endpoints []judge.Judgement,
	expected func(i int) Expectation) []judge.Deployment {
	policyOf := func(i int) *policy.Policy {
		c := e.contextOf(observed[i], expected(i))
		return &c.Policy
	}
	return judge.Reconcile(machines, observed, endpoints, policyOf, e.fileContext(Expectation{Policy: policy.Open()}))
}

// ReplacedElsewhere adds to the judgements of endpoints that another one serves the successor of a certificate.
func (e *Engine) ReplacedElsewhere(observed []facts.Endpoint, judgements []judge.Judgement) {
	judge.ReplacedElsewhere(observed, judgements, e.fileContext(Expectation{Policy: policy.Open()}))
}

// Alone judges each file by itself.
func (e *Engine) Alone(files []facts.File, x Expectation) []judge.Judgement {
	out := make([]judge.Judgement, len(files))
	for i, f := range files {
		out[i] = judge.File(f, e.fileContext(x))
	}
	return out
}

// Questions are what is to be asked of the issuers about an endpoint: the
// certificates whose revocation counts, and those whose issuer is known nowhere.
func (e *Engine) Questions(f facts.Endpoint, x Expectation) ([]judge.Question, []*pki.Certificate) {
	return judge.Questions(f, e.contextOf(f, x))
}

// FileQuestions are the same for a file.
func (e *Engine) FileQuestions(f facts.File, x Expectation) ([]judge.Question, []*pki.Certificate) {
	return judge.FileQuestions(f, e.fileContext(x))
}

// Knows reports whether the issuer of the certificate is known, by name and signature.
func (e *Engine) Knows(x Expectation) func(*pki.Certificate) bool {
	return e.fileContext(x).Knows
}

func (e *Engine) fileContext(x Expectation) judge.Context {
	e.Ready()
	c := e.common
	c.Policy, c.Names, c.Trust, c.Audiences, c.Purpose = x.Policy, x.Names, x.Trust, x.Audiences, x.Purpose
	c.Issuers = x.CAAIssuers
	return c
}

// contextOf is what an endpoint is judged by: where clients verify nothing
// (RFC 7435) the opportunistic policy, unless another was asked for, the
// endpoint is declared to be authenticated, or TLSA records say whom to expect.
// A record that names the very leaf stands in the place of all other checks
// (RFC 7672, 3.1.1), so that the opportunistic policy goes on to hold; one that
// names a CA makes it an anchor (RFC 7672, 3.1.2).
func (e *Engine) contextOf(f facts.Endpoint, x Expectation) judge.Context {
	c := e.fileContext(x)
	parsed, err := endpoint.Parse(f.Endpoint)
	if err != nil {
		return c
	}
	mild := policy.For(c.Policy, parsed.Scheme, parsed.Port)
	if mild.Name == c.Policy.Name {
		return c
	}
	pins := judge.PinsOf(f.DNS)
	ofLeaf := slices.DeleteFunc(slices.Clone(pins), func(t facts.TLSA) bool { return t.Usage != facts.UsageLeaf })
	if !x.Authenticated && (len(pins) == 0 || servedBy(f, ofLeaf)) {
		c.Policy = mild
		return c
	}
	for _, anchor := range pinnedAnchors(f, pins) {
		c.Trust = append(slices.Clone(c.Trust), trust.New("TLSA", []trust.Anchor{anchor}))
	}
	return c
}

// servedBy reports whether every address that served a leaf serves one that a record names.
func servedBy(f facts.Endpoint, pins []facts.TLSA) bool {
	served := false
	for _, o := range f.Observations {
		if len(o.Certificates) == 0 {
			continue
		}
		leaf, err := pki.ParseCertificate(o.Certificates[0])
		if err != nil || !slices.ContainsFunc(pins, func(t facts.TLSA) bool { return judge.PinFits(t, leaf) }) {
			return false
		}
		served = true
	}
	return served
}

// pinnedAnchors are the CAs that are served and that records of the usage for anchors name.
func pinnedAnchors(f facts.Endpoint, pins []facts.TLSA) []trust.Anchor {
	var out []trust.Anchor
	for _, o := range f.Observations {
		for _, der := range o.Certificates {
			c, err := pki.ParseCertificate(der)
			if err == nil && c.IsCA() && slices.ContainsFunc(pins,
				func(t facts.TLSA) bool { return t.Usage == facts.UsageAnchor && judge.PinFits(t, c) }) {
				out = append(out, trust.Anchor{Certificate: c, Kind: trust.Private})
			}
		}
	}
	return out
}
