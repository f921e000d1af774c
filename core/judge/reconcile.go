package judge

import (
	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/plain"
	"nurvik/core/policy"
)

// Reconcile compares disk, configuration and wire at each place. What it finds is added to the judgements of the
// endpoints, by the policy of each; a finding of a configuration that one of these says better is taken out.
func Reconcile(machines []Machine, observed []facts.Endpoint, endpoints []Judgement,
	policyOf func(endpoint int) *policy.Policy, context Context) []Deployment {
	context.ready()
	context.begin()
	var all []*placed
	told := map[int]map[pki.Fingerprint]bool{} // what the machines are told to serve at an endpoint
	for n := range machines {
		m := &machines[n]
		if len(m.Places) == 0 {
			continue
		}
		// What a machine sends can be anything; a defect that it meets here is told in the log, and nothing of it.
		var places []*placed
		if context.Report.Do("holding "+m.Name, func() { places = m.places(observed, endpoints, &context) }) != nil {
			continue
		}
		for _, p := range places {
			if told[p.at.Endpoint] == nil {
				told[p.at.Endpoint] = map[pki.Fingerprint]bool{}
			}
			for _, id := range p.site.identities {
				if id.leaf != nil {
					told[p.at.Endpoint][id.leaf.Fingerprint()] = true
				}
			}
		}
		all = append(all, places...)
	}
	out := []Deployment{}
	for _, p := range all {
		p.told = told[p.at.Endpoint]
		context.Report.Do("holding "+p.from.Name, func() {
			p.judge(policyOf(p.at.Endpoint))
			out = append(out, p.shown())
		})
	}
	return out
}

// places makes the places of a machine ready.
func (m *Machine) places(observed []facts.Endpoint, endpoints []Judgement, context *Context) (out []*placed) {
	index := newMachine(m.Files, m.Together, context)
	configurations := map[int]*configured{}
	for _, at := range m.Places {
		c := configurations[at.Configuration]
		if c == nil {
			c = configure(&m.Configurations[at.Configuration], index, context)
			configurations[at.Configuration] = c
		}
		p := &placed{configured: c, from: m, at: at, site: c.sites[at.Site], endpoint: &endpoints[at.Endpoint]}
		p.look(&observed[at.Endpoint])
		out = append(out, p)
	}
	return out
}

// judge adds what is found at the place to the judgement of the endpoint.
func (p *placed) judge(policy *policy.Policy) {
	findings := ofPlace(p)
	for i := range findings {
		f := &findings[i]
		if p.from.Name != "" {
			f.Message += " This is by what the machine " + p.from.Name + " sent on " + day(p.from.Known) + "."
		}
		plain.CleanLines(f)
		for _, code := range betterSaid[f.Code] {
			if p.from.Judged != nil {
				p.from.Judged[p.at.Configuration].leaveOut(code, f.Evidence.Certificate)
			}
		}
	}
	if len(findings) == 0 {
		return
	}
	j := p.endpoint
	j.Findings = merge(append(j.Findings, settled(policy, p.context.At, j.Target, findings)...))
	if j.Verdict != Unreachable {
		j.Verdict = verdictOf(j.Findings)
	}
}

// leaveOut takes a finding about a certificate out of a judgement.
func (j *Judgement) leaveOut(code string, about *pki.Fingerprint) {
	kept := j.Findings[:0:0]
	for _, f := range j.Findings {
		same := f.Evidence.Certificate != nil && about != nil && *f.Evidence.Certificate == *about
		if f.Code != code || !same {
			kept = append(kept, f)
		}
	}
	if len(kept) < len(j.Findings) {
		j.Findings, j.Verdict = kept, verdictOf(kept)
	}
}
