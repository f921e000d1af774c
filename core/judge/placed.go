package judge

import (
	"time"

	"nurvik/core/pki"
)

// Deployment is what lies on disk, what is configured, and what is served at one place.
type Deployment struct {
	Endpoint   string         `json:"endpoint"`
	Server     string         `json:"server" doc:"Kind of server"`
	Disk       *DeployedLeaf  `json:"disk,omitempty" doc:"The newest certificate for these names in the files of the machine"`
	Configured *DeployedLeaf  `json:"configured,omitempty"`
	Served     []DeployedLeaf `json:"served,omitempty" doc:"What each address serves"`
	Agree      bool           `json:"agree" doc:"All three are the same certificate"`
}

// DeployedLeaf is a leaf at a place.
type DeployedLeaf struct {
	Certificate pki.Fingerprint `json:"certificate"`
	Label       string          `json:"label"`
	NotBefore   time.Time       `json:"not_before"`
	NotAfter    time.Time       `json:"not_after"`
	Place       string          `json:"place" doc:"A file, a line of a configuration, or an address"`
}

func deployed(c *pki.Certificate, place string) *DeployedLeaf {
	return &DeployedLeaf{c.Fingerprint(), c.Label(), c.NotBefore.UTC(), c.NotAfter.UTC(), place}
}

// placed is one place under judgement.
type placed struct {
	*configured
	site     *site
	endpoint *Judgement
	served   []servedLeaf
}

type servedLeaf struct {
	*pki.Certificate
	address string
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

// shown are the three columns.
func (p *placed) shown() Deployment {
	d := Deployment{Endpoint: p.endpoint.Target, Server: p.facts.Server}
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
