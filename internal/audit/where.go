package audit

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/wanted"
	"nurvik/internal/api"
)

// Where looks for a thing in everything that the call names: what endpoints serve, what lies in files, and what
// configurations name. unexamined are targets of which nothing is known.
func (p *Plan) Where(ctx context.Context, o Options, t wanted.Thing) (api.Where, []Unexamined) {
	observed, errs := p.visit(ctx, o)
	w := &search{thing: t, out: api.Where{What: t.Text, Places: []api.WherePlace{}, SameKey: []api.WhereOther{},
		Before: []api.WhereOther{}, After: []api.WhereOther{}}}
	unexamined := p.unexamined
	for i := range observed {
		name := p.visits[i].target.Endpoint.String()
		seen := false
		for _, v := range observed[i].Observations {
			for n, der := range v.Certificates {
				seen = true
				w.certificate(der, api.WherePlace{Kind: "endpoint", Name: name, Address: v.Address.String(), Line: 0},
					n)
			}
		}
		if !seen {
			reason := "no certificate was seen"
			if errs[i] != nil {
				reason = errs[i].Error()
			}
			unexamined = append(unexamined, Unexamined{name, reason})
		}
	}
	for i := range p.files {
		w.file(&p.files[i])
	}
	for i := range p.configurations {
		w.configuration(&p.configurations[i], p.files)
	}
	w.relatives()
	return w.out, unexamined
}

// search collects the places of a thing.
type search struct {
	thing wanted.Thing
	out   api.Where
	all   []met // every certificate that was met, found or not
	found map[pki.Fingerprint]bool
}

// met is a certificate with where it was met.
type met struct {
	*pki.Certificate
	place string
}

func (w *search) certificate(der []byte, place api.WherePlace, position int) {
	c, err := pki.ParseCertificate(der)
	if err != nil {
		return
	}
	w.all = append(w.all, met{c, place.Name})
	by := w.thing.Certificate(c)
	if by == "" || c.IsCA() && position > 0 && (by == "name" || by == "subject") {
		return
	}
	if w.found == nil {
		w.found = map[pki.Fingerprint]bool{}
	}
	w.found[c.Fingerprint()] = true
	place.What, place.By, place.Label, place.Certificate, place.Serial, place.Now = string(facts.Certificate), by,
		c.Label(),
		c.Fingerprint(), c.SerialHex(), true
	place.NotBefore, place.NotAfter = &c.NotBefore, &c.NotAfter
	w.out.Places = append(w.out.Places, place)
}

func (w *search) file(f *facts.File) {
	for n := range f.Items {
		item := &f.Items[n]
		place := api.WherePlace{Kind: "file", Name: f.Path, Line: item.Line, Alias: item.Alias,
			What: string(item.Kind), Now: true}
		switch item.Kind {
		case facts.Certificate:
			w.certificate(item.DER, place, n)
		case facts.PrivateKey:
			if item.Key == nil || len(item.Key.SPKI) == 0 {
				continue
			}
			if k, err := pki.ParsePublicKey(item.Key.SPKI); err == nil && w.thing.Key(k) {
				place.By, place.Label = "key", "private key, "+k.String()
				w.out.Places = append(w.out.Places, place)
			}
		case facts.Request:
			q, err := pki.ParseRequest(item.DER)
			if err != nil {
				continue
			}
			named := slices.ContainsFunc(q.Wanted.HostNames(), func(name string) bool {
				return strings.EqualFold(name,
					w.thing.Name)
			})
			switch {
			case w.thing.Key(q.PublicKey):
				place.By = "key"
			case named:
				place.By = "name"
			default:
				continue
			}
			place.Label = q.Label()
			w.out.Places = append(w.out.Places, place)
		}
	}
}

// configuration looks for lines that name a file in which the thing was found, and for sites of the name.
func (w *search) configuration(c *facts.Configuration, files []facts.File) {
	holds := map[string]api.WherePlace{}
	for _, p := range w.out.Places {
		if p.Kind == "file" {
			holds[p.Name] = p
		}
	}
	byInode := map[[2]uint64]string{}
	for i := range files {
		if a := files[i].Access; a != nil && a.Inode != 0 {
			byInode[[2]uint64{a.Device, a.Inode}] = files[i].Path
		}
	}
	for _, n := range c.Named {
		at, there := holds[n.Path]
		if !there {
			at, there = holds[byInode[[2]uint64{n.Device, n.Inode}]]
		}
		if !there || n.Line.Line == 0 {
			continue
		}
		at.Kind, at.Name, at.Line, at.Alias = "configuration", n.File, n.Line.Line, ""
		w.out.Places = append(w.out.Places, at)
	}
	for _, s := range c.Sites {
		for _, n := range s.Names {
			if strings.EqualFold(n.Value, w.thing.Name) && n.Line.Line > 0 {
				w.out.Places = append(w.out.Places, api.WherePlace{Kind: "configuration", Name: n.File,
					Line: n.Line.Line,
					What: string(facts.Certificate), By: "name", Label: n.Directive + " " + n.Value, Now: true})
			}
		}
	}
}

// relatives finds what has to do with what was found: other certificates on the same keys, and for the same names.
func (w *search) relatives() {
	keys, names := map[pki.Fingerprint]bool{}, map[string][]*pki.Certificate{}
	for _, c := range w.all {
		if w.found[c.Fingerprint()] {
			keys[c.PublicKey.Match()] = true
			names[namesOf(c.Certificate)] = append(names[namesOf(c.Certificate)], c.Certificate)
		}
	}
	into := func(list *[]api.WhereOther, c met) {
		for i := range *list {
			if other := &(*list)[i]; other.Certificate == c.Fingerprint() {
				if !slices.Contains(other.Places, c.place) {
					other.Places = append(other.Places, c.place)
				}
				return
			}
		}
		*list = append(*list, api.WhereOther{Label: c.Label(), Certificate: c.Fingerprint(), Serial: c.SerialHex(),
			NotBefore: &c.NotBefore, NotAfter: &c.NotAfter, Places: []string{c.place}})
	}
	for _, c := range w.all {
		if w.found[c.Fingerprint()] {
			continue
		}
		if keys[c.PublicKey.Match()] {
			into(&w.out.SameKey, c)
		}
		of := names[namesOf(c.Certificate)]
		switch {
		case len(of) == 0 || namesOf(c.Certificate) == "":
		case c.NotBefore.Before(of[0].NotBefore):
			into(&w.out.Before, c)
		case c.NotBefore.After(of[0].NotBefore):
			into(&w.out.After, c)
		}
	}
	for _, list := range [][]api.WhereOther{w.out.SameKey, w.out.Before, w.out.After} {
		slices.SortFunc(list, func(a, b api.WhereOther) int {
			return cmp.Compare(a.Certificate.String(),
				b.Certificate.String())
		})
	}
}

// namesOf is the same for certificates with the same names.
func namesOf(c *pki.Certificate) string {
	names := slices.Clone(c.HostNames())
	slices.Sort(names)
	return strings.ToLower(strings.Join(names, " "))
}
