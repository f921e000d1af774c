package pack

import (
	"slices"
	"strings"

	"nurvik/core/assess"
	"nurvik/core/chain"
	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/naming"
	"nurvik/core/pki"
	"nurvik/core/policy"
	"nurvik/core/trust"
)

// Set is what is packed.
type Set struct {
	Leaf     *pki.Certificate
	Chain    []*pki.Certificate // the intermediates, in order, without the root
	Root     *pki.Certificate   // nil where the leaf certifies itself, and of an open set
	Open     bool               // the chain ends at a certificate whose issuer is not at hand
	Key      *Key               // nil where it is not there
	Trusted  bool               // the root is in one of the trust stores
	Findings []judge.Finding    // what is wrong with leaf and chain
}

// Wanted is what the set is for.
type Wanted struct {
	Names  []naming.Reference
	Stores []*trust.Store
	Policy policy.Policy
	// Open lets a chain end at a certificate whose issuer is not at hand, which is mostly a root that clients have. The
	// set says so.
	Open bool
	// Complete, where it is set, adds what can be fetched to the facts before they are judged.
	Complete func(f *facts.File, e *assess.Engine, x assess.Expectation)
}

// Assemble puts the chain of the leaf together from the heap and the trust stores and judges it. A root of the heap
// ends a chain too. The error is a *RefusedError where there is no complete and valid chain.
func (h *Heap) Assemble(leaf *pki.Certificate, w Wanted, o assess.Options) (*Set, error) {
	var own []trust.Anchor
	for _, c := range h.Roots() {
		own = append(own, trust.Anchor{Certificate: c, Kind: trust.Private})
	}
	heap := trust.New("what was read", own)
	o.Anchors, o.Heap, o.Unordered = append(slices.Clone(w.Stores), heap), true, true
	engine := assess.New(o)
	engine.LearnFacts(nil, h.files)
	engine.Ready()
	x := assess.Expectation{Policy: w.Policy, Names: w.Names, Trust: append(slices.Clone(w.Stores), heap)}
	f := h.About(leaf)
	if w.Complete != nil {
		w.Complete(&f, engine, x)
	}
	judgements, _ := engine.Files([]facts.File{f}, x)
	j := judgements[0]
	at := slices.IndexFunc(j.Chains, func(c judge.Chain) bool {
		return len(c.View.Right) > 0 && c.View.Right[0].SHA256 == leaf.Fingerprint()
	})
	set := &Set{Leaf: leaf, Findings: slices.DeleteFunc(slices.Clone(j.Findings), ofTheHeap)}
	if key, ok := h.keys.Of(leaf.PublicKey); ok {
		set.Key = &key
	}
	if at >= 0 && w.Open && len(j.Chains[at].Bundle) == 0 {
		set.Open = !slices.ContainsFunc(j.Findings, func(f judge.Finding) bool {
			return f.Severity == judge.Fault && !slices.Contains(endless, f.Code)
		})
		set.Findings = slices.DeleteFunc(set.Findings, func(f judge.Finding) bool {
			return set.Open && slices.Contains(endless, f.Code)
		})
	}
	if at < 0 || len(j.Chains[at].Bundle) == 0 && !set.Open {
		return nil, refuse("no complete and valid chain is known for %s: %s", leaf.Label(), whyNot(j, heap.Name))
	}
	held := map[pki.Fingerprint]*pki.Certificate{}
	hold := func(list ...*pki.Certificate) {
		for _, c := range list {
			held[c.Fingerprint()] = c
		}
	}
	hold(h.given...)
	for _, s := range w.Stores {
		for _, a := range s.Anchors {
			hold(a.Certificate)
		}
	}
	for _, fetched := range f.Fetched {
		for _, der := range fetched.Certificates {
			if c, err := pki.ParseCertificate(der); err == nil {
				hold(c)
			}
		}
	}
	right := j.Chains[at].View.Right
	for _, link := range right[1:] {
		c := held[link.SHA256]
		if c == nil {
			return nil, refuse("the certificate of %q belongs into the chain and is not at hand", link.Label)
		}
		if link.Place == chain.AnchorHeld {
			set.Root = c
		} else {
			set.Chain = append(set.Chain, c)
		}
	}
	top := leaf
	if set.Root != nil {
		top = set.Root
	}
	set.Trusted = slices.ContainsFunc(w.Stores, func(s *trust.Store) bool { _, is := s.Holds(top); return is })
	return set, nil
}

// endless are the findings of a chain whose only defect is that its last issuer is not at hand.
var endless = []string{"trust.unknown-anchor", "chain.incomplete"}

// ofTheHeap reports whether a finding is about what lies around, and not about what is written.
func ofTheHeap(f judge.Finding) bool {
	return f.Code == "chain.wrong-order" || f.Code == "chain.expired-alternate" ||
		f.Severity == judge.Note && strings.HasPrefix(f.Code, "chain.")
}

// whyNot is the reason that says most.
func whyNot(j judge.Judgement, heap string) string {
	for _, f := range j.Findings {
		if f.Severity == judge.Fault {
			return f.Message
		}
	}
	for _, c := range j.Chains {
		for _, a := range c.Audiences {
			if a.Reason != "" && a.Store != heap {
				return a.Reason
			}
		}
	}
	return "no path leads to a root"
}
