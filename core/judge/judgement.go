package judge

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"nurvik/core/chain"
	"nurvik/core/lifetime"
	"nurvik/core/pki"
	"nurvik/core/plain"
	"nurvik/core/trust"
)

// Judgement is the result for one endpoint or file. It has no verdict where judging was interrupted before its turn.
type Judgement struct {
	Target       string            `json:"target"`
	Kind         string            `json:"kind" enum:"endpoint,file,configuration"`
	Verdict      Verdict           `json:"verdict" enum:"sound,at-risk,faulty,unreachable"`
	Basis        *Basis            `json:"basis"`
	Findings     []Finding         `json:"findings"`
	Leaf         *pki.Fingerprint  `json:"leaf,omitempty" doc:"The leaf that was judged first"`
	NotAfter     *time.Time        `json:"not_after,omitempty" doc:"When that leaf expires"`
	Issuer       string            `json:"issuer,omitempty" doc:"Who issued that leaf"`
	Chains       []Chain           `json:"chains" doc:"Each different chain that was met"`
	Certificates []pki.Description `json:"certificates" doc:"Every certificate that the chains name"`
	Shown        []Shown           `json:"shown,omitempty" doc:"What each address showed of TLS, beside what the policy wants"`
	Deployments  []Deployment      `json:"deployments,omitempty" doc:"Disk, configuration and wire side by side, where a service knows the machines"`
}

// Chain is a chain as drawn, and where it was met.
type Chain struct {
	Addresses  []string          `json:"addresses,omitempty"`
	View       chain.View        `json:"view"`
	Audiences  []Audience        `json:"audiences" doc:"What each trust store makes of it"`
	Bundle     []string          `json:"bundle,omitempty" doc:"PEM of the complete, ordered chain without the anchor, where that is not what was given"`
	Revocation []RevocationState `json:"revocation" doc:"For each certificate of the best path, where it was asked"`
}

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

// maxShown is how many paths of one audience a report carries.
const maxShown = 8

// draw adds the bundle's chain to the judgement; equal chains are drawn once.
func (j *Judgement) draw(b *bundle, address string, seen *pool) {
	view := b.context.Verifier.Draw(b.context.budget, b.given, b.assessed.path, b.assessed.store)
	seen.add(b.given[:len(view.Given)]...)
	seen.add(b.assessed.path.Certificates...)
	for _, a := range b.assembled {
		for _, p := range a.paths[:min(len(a.paths), maxShown)] {
			seen.add(p.Certificates...)
		}
	}
	if j.Leaf == nil {
		j.Leaf, j.Issuer = fingerprint(b.leaf), b.leaf.Issuer.Label()
		if !b.leaf.NotAfter.IsZero() {
			j.NotAfter = &b.leaf.NotAfter
		}
	}
	same := signature(view)
	if i, drawn := seen.chains[same]; drawn {
		if address != "" {
			j.Chains[i].Addresses = append(j.Chains[i].Addresses, address)
		}
		return
	}
	seen.chains[same] = len(j.Chains)
	c := Chain{View: view, Audiences: audiencesOf(b), Revocation: revocationStates(b), Bundle: bundlePEM(b)}
	if address != "" {
		c.Addresses = []string{address}
	}
	j.Chains = append(j.Chains, c)
}

// signature is the same for chains that are drawn alike.
func signature(v chain.View) string {
	var out strings.Builder
	for _, links := range [][]chain.Link{v.Given, v.Right} {
		for _, l := range links {
			out.Write(l.SHA256[:])
			out.WriteString(string(l.Place))
		}
		out.WriteByte('|')
	}
	return out.String()
}

// bundlePEM is the repaired chain.
func bundlePEM(b *bundle) []string {
	path := b.assessed.path
	right := slices.EqualFunc(b.given, path.Below(), func(x,
		y *pki.Certificate) bool {
		return x.Fingerprint() == y.Fingerprint()
	})
	if !path.Valid() || right && !b.context.Bundles {
		return nil
	}
	var out []string
	for _, c := range path.Below() {
		out = append(out, c.PEM())
	}
	return out
}

// audiencesOf is the table of what each store makes of the chain.
func audiencesOf(b *bundle) []Audience {
	out := []Audience{}
	for _, a := range b.assembled {
		row := Audience{Store: a.store.Name, Required: a.required, GaveUp: a.gaveUp != "", Paths: []PathView{}}
		for _, p := range a.paths {
			if len(row.Paths) == maxShown {
				row.More = len(a.paths) - maxShown
				break
			}
			row.Paths = append(row.Paths, viewOf(b, p))
		}
		for _, p := range a.paths {
			view := viewOf(b, p)
			if !view.Valid || p.Borrowed > 0 || p.Anchor.Kind == trust.Rehearsal {
				continue
			}
			row.Trusted = true
			if view.Ends != nil && (row.Until == nil || view.Ends.After(*row.Until)) {
				row.Until = view.Ends
			}
		}
		if !row.Trusted {
			row.Reason = distrustReason(b, a)
		}
		out = append(out, row)
	}
	return out
}

// distrustReason says why no path is good enough, by the best one.
func distrustReason(b *bundle, a assembled) string {
	best := a.paths[0]
	switch reason := pathReason(b, best); {
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

func viewOf(b *bundle, p chain.Path) PathView {
	v := PathView{Borrowed: p.Borrowed, Reason: pathReason(b, p)}
	v.Valid = v.Reason == ""
	if p.Anchor != nil {
		v.Anchor = p.Anchor.Kind
	}
	for _, c := range p.Certificates {
		v.Certificates = append(v.Certificates, c.Fingerprint())
	}
	if first, ends := p.Ends(); first != nil {
		v.Ends, v.EndsWith = &ends, first.Label()
	}
	return v
}

// failureWords say what is wrong on a path, with the certificate and a detail.
var failureWords = map[chain.Reason]string{
	chain.BadSignature: "the signature of %s is wrong: it was %s", chain.NotAuthority: "%s is no CA: %s",
	chain.PathLength:       "%s has more intermediates below it than it allows: %s",
	chain.UnknownCritical:  "%s has a critical extension that cannot be processed: %s",
	chain.Unverifiable:     "the signature of %s cannot be checked here: %s",
	chain.NameNotAllowed:   "%s is not allowed by its issuer's name constraints: %s",
	chain.UsageNotAllowed:  "%s is not meant for this use: %s",
	chain.PolicyNotAllowed: "%s is valid under no certificate policy that the path requires: %s",
	chain.IsRevoked:        "%s is revoked, %s",
	chain.NotComputed:      "%s was not checked to the end: %s",
}

// pathReason is the first reason why the path is not valid now, "" when it is.
func pathReason(b *bundle, p chain.Path) string {
	if len(p.Failures) > 0 {
		f := p.Failures[0]
		return fmt.Sprintf(failureWords[f.Reason], f.Certificate.Label(), f.Detail)
	}
	if p.Anchor == nil {
		top := p.Certificates[len(p.Certificates)-1]
		if top.SelfIssued() {
			return fmt.Sprintf("%q is not in this trust store", top.Label())
		}
		return fmt.Sprintf("no issuer %q of %s is known that leads to this store", top.Issuer.Label(), top.Label())
	}
	if c := p.FirstOutOfDate(b.context.At); c != nil {
		switch lifetime.StateAt(c, b.context.At, lifetime.Windows{}) {
		case lifetime.NotYetValid:
			return fmt.Sprintf("%s is not valid until %s", c.Label(), day(c.NotBefore))
		case lifetime.Unknown:
			return c.Label() + " has a notBefore that cannot be read"
		}
		return c.Label() + " " + expired(c)
	}
	return ""
}

// pool collects each certificate once, in the order met, and knows the places of the chains drawn.
type pool struct {
	seen   map[pki.Fingerprint]bool
	list   []pki.Description
	chains map[string]int
	known  *sync.Map
}

func newPool(c *Context) *pool {
	return &pool{known: c.described, seen: map[pki.Fingerprint]bool{}, list: []pki.Description{},
		chains: map[string]int{}}
}

func (p *pool) add(certificates ...*pki.Certificate) {
	for _, c := range certificates {
		if !p.seen[c.Fingerprint()] {
			p.seen[c.Fingerprint()] = true
			p.list = append(p.list, p.describe(c))
		}
	}
}

func (p *pool) describe(c *pki.Certificate) pki.Description {
	if p.known == nil || !c.IsCA() {
		return c.Describe()
	}
	known, ok := p.known.Load(c.Fingerprint())
	if !ok {
		d := c.Describe()
		plain.CleanLines(&d) // here, for afterwards it is shared
		known, _ = p.known.LoadOrStore(c.Fingerprint(), d)
	}
	d, _ := known.(pki.Description)
	return d
}
