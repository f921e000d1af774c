package audit

import (
	"context"
	"slices"

	"nurvik/core/facts"
	"nurvik/core/lifetime"
	"nurvik/core/pki"
	"nurvik/core/trust"
)

// Dues visits the endpoints and finds out what ends when, of what they serve and of what is in the files: each thing
// once, with the places that have it.
func (p *Plan) Dues(ctx context.Context, o Options, r lifetime.Renewal) (dues []lifetime.Due,
	unexamined []Unexamined) {
	unexamined = p.unexamined
	observed, errs := p.visit(ctx, o)
	c := &dueCollector{renewal: r, options: o, at: map[pki.Fingerprint]int{}, issuers: map[string]string{}}
	for i, v := range p.visits {
		target, seen := v.target.Endpoint.String(), false
		for _, x := range observed[i].Observations {
			for _, der := range x.Certificates {
				if certificate, err := pki.ParseCertificate(der); err == nil {
					c.certificate(target, certificate.Brief())
					seen = true
				}
			}
			c.staple(target, x.Staple)
		}
		if !seen {
			unexamined = append(unexamined, Unexamined{target, whyNone(observed[i], errs[i])})
		}
	}
	for i := range p.files {
		f := &p.files[i]
		for n := range f.Items {
			switch item := &f.Items[n]; item.Kind {
			case facts.Certificate:
				if b := p.memory.Of(item); b != nil {
					c.certificate(f.Path, b)
				}
			case facts.RevocationList:
				c.list(f.Path, item.DER)
			}
		}
	}
	c.public(p.anchors)
	lifetime.Sort(c.dues)
	return c.dues, unexamined
}

type dueCollector struct {
	renewal lifetime.Renewal
	options Options
	dues    []lifetime.Due
	at      map[pki.Fingerprint]int
	issuers map[string]string // of CAs, by their own label the label of their issuer
}

func (c *dueCollector) add(id pki.Fingerprint, place string, d func() lifetime.Due) {
	n, known := c.at[id]
	if !known {
		n = len(c.dues)
		c.at[id] = n
		due := d()
		due.State = c.renewal.StateOf(due.Kind, due.From, due.Until, c.options.At)
		c.dues = append(c.dues, due)
	}
	if places := &c.dues[n].Places; !slices.Contains(*places, place) {
		*places = append(*places, place)
	}
}

func (c *dueCollector) certificate(place string, b *pki.Brief) {
	c.add(b.SHA256, place, func() lifetime.Due {
		d := lifetime.Due{Kind: lifetime.Leaf, Label: b.Label, Names: b.Names, Issuer: b.Issuer, SHA256: b.SHA256,
			From: b.NotBefore, Until: b.NotAfter}
		switch {
		case b.CA && b.SelfIssued && len(b.Names) == 0:
			d.Kind = lifetime.Anchor
		case b.CA && !b.SelfIssued:
			d.Kind = lifetime.Intermediate
			c.issuers[b.Label] = b.Issuer
		}
		if d.Kind == lifetime.Leaf && !d.From.IsZero() && !d.Until.IsZero() {
			renew := c.renewal.From(d.From, d.Until)
			d.Renew = &renew
		}
		return d
	})
}

func (c *dueCollector) list(place string, der []byte) {
	l, err := pki.ParseRevocationList(der)
	if err != nil || l.NextUpdate.IsZero() {
		return
	}
	c.add(pki.FingerprintOf(l.Raw), place, func() lifetime.Due {
		return lifetime.Due{Kind: lifetime.List, Label: l.Issuer.Label(), Issuer: l.Issuer.Label(), From: l.ThisUpdate,
			Until: l.NextUpdate}
	})
}

func (c *dueCollector) staple(place string, der []byte) {
	response, err := pki.ParseOCSPResponse(der)
	if err != nil {
		return
	}
	for _, s := range response.Answers {
		if s.Expires.IsZero() {
			continue
		}
		c.add(pki.FingerprintOf(der), place, func() lifetime.Due {
			return lifetime.Due{Kind: lifetime.Staple, Label: place, From: s.ThisUpdate, Until: s.Expires}
		})
	}
}

// public marks the leaves whose issuers lead to a public root, by their names: for a forecast that is near enough.
func (c *dueCollector) public(stores []*trust.Store) {
	roots := map[string]bool{}
	for _, s := range stores {
		for _, a := range s.Anchors {
			if a.Kind == trust.Public {
				roots[a.Certificate.Label()] = true
			}
		}
	}
	for i := range c.dues {
		d := &c.dues[i]
		if d.Kind != lifetime.Leaf {
			continue
		}
		issuer := d.Issuer
		for range 8 {
			if roots[issuer] {
				d.Public = true
				break
			}
			next, known := c.issuers[issuer]
			if !known {
				break
			}
			issuer = next
		}
	}
}
