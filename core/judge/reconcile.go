package judge

import (
	"nurvik/core/facts"
	"nurvik/core/pairing"
	"nurvik/core/pki"
	"nurvik/core/plain"
)

// Placed is a place of a configuration that was visited.
type Placed struct {
	Configuration int // its index
	Site          int // in that
	Endpoint      int // index of what was observed there
}

// Reconcile compares disk, configuration and wire at each place. What it finds is added to the judgements of the
// endpoints; a finding of a configuration that one of these says better is taken out.
func Reconcile(all []facts.Configuration, ofServers []Judgement, places []Placed, observed []facts.Endpoint,
	endpoints []Judgement, files []facts.File, result *pairing.Result, context Context) []Deployment {
	context.ready()
	context.begin()
	m := newMachine(files, result, &context)
	told := map[int]*configured{}
	out := []Deployment{}
	for _, at := range places {
		c := told[at.Configuration]
		if c == nil {
			c = configure(&all[at.Configuration], m, &context)
			told[at.Configuration] = c
		}
		p := &placed{configured: c, site: c.sites[at.Site], endpoint: &endpoints[at.Endpoint]}
		for i := range observed[at.Endpoint].Observations {
			o := &observed[at.Endpoint].Observations[i]
			if len(o.Certificates) == 0 {
				continue
			}
			if leaf, err := context.certificate(o.Certificates[0]); err == nil {
				p.served = append(p.served, servedLeaf{leaf, o.Address.String()})
			}
		}
		findings := ofPlace(p)
		for i := range findings {
			plain.CleanLines(&findings[i])
			for _, code := range betterSaid[findings[i].Code] {
				ofServers[at.Configuration].leaveOut(code, findings[i].Evidence.Certificate)
			}
		}
		if len(findings) > 0 {
			p.endpoint.Findings = merge(append(p.endpoint.Findings,
				settled(&context.Policy, context.At, p.endpoint.Target, findings)...))
			if p.endpoint.Verdict != Unreachable {
				p.endpoint.Verdict = verdictOf(p.endpoint.Findings)
			}
		}
		out = append(out, p.shown())
	}
	return out
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
