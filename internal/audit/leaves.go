package audit

import (
	"context"
	"fmt"
	"net/netip"
	"strings"

	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/naming"
	"nurvik/core/pki"
	"nurvik/core/probe"
)

// Leaf is a certificate that names are looked for in, with what it is of.
type Leaf struct {
	Target      string // the endpoint, with the addresses where these differ, or the file
	Certificate *pki.Certificate
}

// Needed are the names that the endpoints of the plan are expected to have: those that were given or stand in the
// estate file, or else their own.
func (p *Plan) Needed() []naming.Reference {
	var out []naming.Reference
	for _, v := range p.visits {
		if len(v.expected.Names) > 0 {
			out = append(out, v.expected.Names...)
		} else if r, err := naming.Parse(v.target.Endpoint.Host); err == nil {
			out = append(out, r)
		}
	}
	return out
}

// Leaves visits the endpoints and finds the leaves that they serve, and those in the files.
func (p *Plan) Leaves(ctx context.Context, o Options) (leaves []Leaf, unexamined []Unexamined) {
	unexamined = p.unexamined
	observed, errs := p.visit(ctx, o)
	for i, v := range p.visits {
		served := servedLeaves(observed[i])
		if len(served) == 0 {
			unexamined = append(unexamined, Unexamined{v.target.Endpoint.String(), whyNone(observed[i], errs[i])})
		}
		leaves = append(leaves, served...)
	}
	for i := range p.files {
		for _, c := range judge.Leaves(&p.files[i]) {
			leaves = append(leaves, Leaf{p.files[i].Path, c})
		}
	}
	return leaves, unexamined
}

// servedLeaves are the different leaves that an endpoint serves.
func servedLeaves(e facts.Endpoint) []Leaf {
	var order []*pki.Certificate
	at := map[pki.Fingerprint][]netip.AddrPort{}
	for _, o := range e.Observations {
		if len(o.Certificates) == 0 {
			continue
		}
		c, err := pki.ParseCertificate(o.Certificates[0])
		if err != nil {
			continue
		}
		if len(at[c.Fingerprint()]) == 0 {
			order = append(order, c)
		}
		at[c.Fingerprint()] = append(at[c.Fingerprint()], o.Address)
	}
	var out []Leaf
	for _, c := range order {
		target := e.Endpoint
		if len(order) > 1 {
			var addresses []string
			for _, a := range at[c.Fingerprint()] {
				addresses = append(addresses, a.Addr().String())
			}
			target = fmt.Sprintf("%s (on %s)", target, strings.Join(addresses, ", "))
		}
		out = append(out, Leaf{target, c})
	}
	return out
}

func whyNone(e facts.Endpoint, err error) string {
	switch exhausted := probe.Exhausted(err); {
	case exhausted != nil:
		return exhausted.Error()
	case err != nil:
		return "interrupted before it was visited"
	}
	return "no certificate was seen; \"nurvik audit\" says why"
}
