package judge

import (
	"nurvik/core/facts"
	"nurvik/core/plain"
)

// Endpoint judges what was observed of an endpoint. A defect in judging is a
// finding of that endpoint.
func Endpoint(e facts.Endpoint, context Context) (j Judgement) {
	context.ready()
	if context.over() {
		return Judgement{Target: e.Endpoint, Kind: "endpoint"}
	}
	if d := context.Report.Do(e.Endpoint, func() { j = ofFacts(e, context) }); d != nil {
		j = NotJudged(e.Endpoint, "endpoint", context.basis(e.Schema), d)
	}
	plain.CleanLines(&j)
	return j
}

func ofFacts(e facts.Endpoint, context Context) Judgement {
	context.begin()
	context.learn(e.Fetched, e.Revocation, revokedWords)
	j := Judgement{Target: e.Endpoint, Kind: "endpoint", Basis: context.basis(e.Schema), Chains: []Chain{}}
	v, seen := visit(&e, &context), newPool(&context)
	for _, a := range v.addresses {
		j.Shown = append(j.Shown, shownOf(a))
		if a.bundle != nil {
			a.bundle.examine()
			j.draw(a.bundle, a.seen.Place(), seen)
		}
	}
	findings := append(ofEndpoint(v), each(func(a *address) []Finding {
		if a.bundle == nil {
			return nil
		}
		return ofChain(a.bundle)
	})(v)...)
	findings = append(findings, each(ofOthers)(v)...)
	for i := range findings {
		f := &findings[i]
		if f.Edits == nil {
			f.Edits = catalogue().byCode[f.Code].Edits
		}
		f.Edits = editsAt(j.Target, f.Edits)
	}
	j.Findings = merge(settled(&context.Policy, context.At, j.Target, findings))
	j.Verdict = verdictOf(j.Findings)
	if !v.answered {
		j.Verdict = Unreachable
	}
	j.Certificates = seen.list
	return j
}
