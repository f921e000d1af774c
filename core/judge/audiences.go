package judge

import (
	"fmt"
	"slices"
	"time"

	"nurvik/core/chain"
	"nurvik/core/lifetime"
	"nurvik/core/pki"
	"nurvik/core/trust"
)

// maxShown is how many paths of one audience a report carries.
const maxShown = 8

// Audience is what one trust store makes of a chain.
type Audience struct {
	Store    string     `json:"store"`
	Required bool       `json:"required" doc:"It must accept; else it is an alternative"`
	Trusted  bool       `json:"trusted" doc:"A valid path leads from what was given to an anchor of the store, now"`
	Reason   string     `json:"reason,omitempty" doc:"Why it is not trusted"`
	Until    *time.Time `json:"until,omitempty" doc:"When the last valid path breaks, if nothing changes"`
	Paths    []PathView `json:"paths" doc:"Every path that was found, the best first"`
	More     int        `json:"more,omitempty" doc:"How many more there are"`
	GaveUp   bool       `json:"gave_up,omitempty" doc:"The search was ended before every path was seen"`
}

// PathView is one path, for reports.
type PathView struct {
	Certificates []pki.Fingerprint `json:"certificates" doc:"Leaf first, the anchor last where there is one"`
	Anchor       trust.Kind        `json:"anchor,omitempty" enum:",public,private,rehearsal" doc:"The kind of the anchor; empty without one"`
	Valid        bool              `json:"valid" doc:"At the time asked, dates included"`
	Reason       string            `json:"reason,omitempty" doc:"The first reason why it is not"`
	Borrowed     int               `json:"borrowed,omitempty" doc:"Certificates that were not given"`
	Ends         *time.Time        `json:"ends,omitempty" doc:"When its first certificate expires"`
	EndsWith     string            `json:"ends_with,omitempty" doc:"Which one that is"`
}

// assembled is what a trust store makes of a chain, with the paths themselves.
type assembled struct {
	store    *trust.Store
	required bool
	paths    []chain.Path
	gaveUp   bool
}

// assemble finds all paths into every store that is an alternative or must accept.
func (b *bundle) assemble() []assembled {
	var out []assembled
	for _, store := range slices.Concat(b.context.Audiences, b.context.stores()) {
		if slices.ContainsFunc(out, func(a assembled) bool { return a.store == store }) {
			continue
		}
		// Rehearsal anchors are shown as what they are, and never make a chain trusted.
		paths, gaveUp := b.context.Verifier.Paths(b.query(store, b.context.Known))
		if worth := slices.DeleteFunc(slices.Clone(paths), func(p chain.Path) bool { return p.Anchor == nil && p.Borrowed > 0 }); len(worth) > 0 {
			paths = worth // dead ends over certificates that nobody gave are of no interest
		}
		out = append(out, assembled{store, slices.Contains(b.context.Audiences, store), paths, gaveUp})
	}
	return out
}

// audiences is the table of what each store makes of the chain.
func (b *bundle) audiences() []Audience {
	out := []Audience{}
	for _, a := range b.assembled {
		row := Audience{Store: a.store.Name, Required: a.required, GaveUp: a.gaveUp, Paths: []PathView{}}
		for _, p := range a.paths {
			if len(row.Paths) == maxShown {
				row.More = len(a.paths) - maxShown
				break
			}
			row.Paths = append(row.Paths, b.viewOf(p))
		}
		for _, p := range a.paths {
			view := b.viewOf(p)
			if !view.Valid || p.Borrowed > 0 || p.Anchor.Kind == trust.Rehearsal {
				continue
			}
			row.Trusted = true
			if view.Ends != nil && (row.Until == nil || view.Ends.After(*row.Until)) {
				row.Until = view.Ends
			}
		}
		if !row.Trusted {
			row.Reason = b.distrust(a)
		}
		out = append(out, row)
	}
	return out
}

// distrust says why no path is good enough, by the best one.
func (b *bundle) distrust(a assembled) string {
	best := a.paths[0]
	switch reason := b.pathReason(best); {
	case reason != "":
		return reason
	case best.Anchor.Kind == trust.Rehearsal:
		return fmt.Sprintf("%q is for rehearsal only", best.Anchor.Certificate.Label())
	case best.Borrowed > 0:
		var names []string
		for _, c := range best.Below() {
			if !b.holds(c) {
				names = append(names, fmt.Sprintf("%q", c.Label()))
			}
		}
		return "lacks " + joined(names)
	}
	return "no path is valid"
}

func (b *bundle) viewOf(p chain.Path) PathView {
	v := PathView{Borrowed: p.Borrowed, Reason: b.pathReason(p)}
	v.Valid = v.Reason == ""
	if p.Anchor != nil {
		v.Anchor = p.Anchor.Kind
	}
	for _, c := range p.Certificates {
		v.Certificates = append(v.Certificates, c.Fingerprint())
	}
	if first, at := p.Ends(); first != nil {
		v.Ends, v.EndsWith = &at, first.Label()
	}
	return v
}

// pathReason is the first reason why the path is not valid now, "" when it is.
func (b *bundle) pathReason(p chain.Path) string {
	if len(p.Failures) > 0 {
		f := p.Failures[0]
		return fmt.Sprintf(failureWords[f.Reason], f.Certificate.Label(), f.Detail)
	}
	if p.Anchor == nil {
		top := p.Certificates[len(p.Certificates)-1]
		if top.SelfIssued() {
			return fmt.Sprintf("%q is no anchor of this store", top.Label())
		}
		return fmt.Sprintf("no issuer %q of %s is known that leads to this store", top.Issuer.Label(), top.Label())
	}
	if c := p.FirstOutOfDate(b.context.At); c != nil {
		if lifetime.StateAt(c, b.context.At, lifetime.Windows{}) == lifetime.NotYetValid {
			return fmt.Sprintf("%s is valid only from %s", c.Label(), day(c.NotBefore))
		}
		return fmt.Sprintf("%s expired on %s", c.Label(), day(c.NotAfter))
	}
	return ""
}

// joined writes a list as a sentence does.
func joined(names []string) string {
	if len(names) < 2 {
		return fmt.Sprint(append(names, "")[0])
	}
	last := len(names) - 1
	out := names[0]
	for _, n := range names[1:last] {
		out += ", " + n
	}
	return out + " and " + names[last]
}

// checkAlternates looks at what stands beside the best path: expired
// cross-certificates, and other paths to anchors that have expired.
func checkAlternates(b *bundle) {
	best := b.assessed.path
	if !best.Valid() || best.OutOfDate > 0 {
		return
	}
	for _, c := range b.given {
		if !c.IsCA() || lifetime.StateAt(c, b.context.At, lifetime.Windows{}) != lifetime.Expired || slices.Contains(best.Certificates, c) {
			continue
		}
		if !slices.ContainsFunc(best.Certificates, func(on *pki.Certificate) bool {
			return on.Issuer.Key() == c.Subject.Key() && b.check(on, c) == nil
		}) {
			continue
		}
		f := found("chain.expired-alternate", c.Fingerprint().String(), c.Label(), "%q, issued by %q, expired on %s; a path without it is valid, but some clients try this one first and fail.", c.Label(), c.Issuer.Label(), day(c.NotAfter))
		if b.file {
			f.Severity = Note
		}
		f.Evidence = certificateEvidence(c)
		b.add(f)
	}
	told := map[pki.Fingerprint]bool{}
	for _, a := range b.assembled {
		for _, p := range a.paths {
			if !p.Valid() || p.Borrowed > 0 || lifetime.StateAt(p.Anchor.Certificate, b.context.At, lifetime.Windows{}) != lifetime.Expired || told[p.Anchor.Certificate.Fingerprint()] {
				continue
			}
			c := p.Anchor.Certificate
			told[c.Fingerprint()] = true
			f := found("trust.anchor-expired", c.Fingerprint().String(), c.Label(), "The anchor %q of %q expired on %s; another path is valid.", c.Label(), a.store.Name, day(c.NotAfter))
			f.Severity = Note
			f.Evidence = certificateEvidence(c)
			b.add(f)
		}
	}
}

// maxServed is how many certificates a chain may have before it is worth a
// word: chains have two to four.
const maxServed = 4

// checkLength notes chains that are longer than any client needs.
func checkLength(b *bundle) {
	if path := b.assessed.path; path.Valid() && len(path.Below()) > maxServed {
		f := found("chain.too-long", b.leaf.Fingerprint().String(), b.leaf.Label(), "The chain of %s has %d certificates below the anchor; every one costs each client bytes and checks.", b.leaf.Label(), len(path.Below()))
		f.Evidence.Order = labels(path.Below())
		b.add(f)
	}
}
