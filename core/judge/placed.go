package judge

import (
	"time"

	"nurvik/core/facts"
	"nurvik/core/pairing"
	"nurvik/core/pki"
	"nurvik/core/trust"
)

// Placed is a place of a configuration that was visited.
type Placed struct {
	Configuration int // its index
	Site          int // in that
	Endpoint      int // index of what was observed there
}

// Machine is what one machine holds and is told: its configurations, the files that lie there, and what those are
// together.
type Machine struct {
	Name           string    // "" for the machine on which the audit runs
	Known          time.Time // when all of it was collected; zero for now
	Configurations []facts.Configuration
	Judged         []Judgement // of the configurations; what is said better here is taken out. nil leaves them alone
	Files          []facts.File
	Together       *pairing.Result
	Places         []Placed
	Trust          []*trust.Store // by which CRLs among the files are believed
}

// placed is one place under judgement.
type placed struct {
	*configured
	from     *Machine
	at       Placed
	site     *site
	endpoint *Judgement
	served   []servedLeaf
	told     map[pki.Fingerprint]bool // what any machine is told to serve at the endpoint
}

type servedLeaf struct {
	*pki.Certificate
	address string
	before  bool // it was seen before the machine was asked, and may be served no more
}

// configures reports whether the leaf is one that the site is told to serve.
func (p *placed) configures(leaf *pki.Certificate) (*identity, bool) {
	for _, id := range p.site.identities {
		if id.leaf != nil && id.leaf.Fingerprint() == leaf.Fingerprint() {
			return id, true
		}
	}
	return nil, false
}

// look takes in what each address serves.
func (p *placed) look(e *facts.Endpoint) {
	for i := range e.Observations {
		o := &e.Observations[i]
		if len(o.Certificates) == 0 {
			continue
		}
		if leaf, err := p.context.certificate(o.Certificates[0]); err == nil {
			p.served = append(p.served, servedLeaf{leaf, o.Place(), o.At.Before(p.from.Known)})
		}
	}
}

// shown are the three columns.
func (p *placed) shown() Deployment {
	d := Deployment{Endpoint: p.endpoint.Target, Server: p.facts.Server, Machine: p.from.Name}
	for _, id := range p.site.identities {
		if id.leaf == nil || d.Configured != nil {
			continue
		}
		d.Configured = deployed(id.leaf, placeOf(p.site.place(id.Certificate)))
		d.Disk = deployed(id.leaf, id.file.Path)
		if next, newer := p.machine.newer[id.leaf.Fingerprint()]; newer {
			c := next.Certificate
			d.Disk = &DeployedLeaf{c.SHA256, c.Brief.Label, c.NotBefore.UTC(), c.NotAfter.UTC(), next.Paths[0]}
		}
	}
	d.Agree = d.Configured != nil && d.Disk.Certificate == d.Configured.Certificate && len(p.served) > 0
	for _, s := range p.served {
		d.Served = append(d.Served, *deployed(s.Certificate, s.address))
		if _, told := p.configures(s.Certificate); !told {
			d.Agree = false
		}
	}
	return d
}
