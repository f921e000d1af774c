package report

import (
	"slices"
	"strings"
	"time"

	"nurvik/core/chain"
	"nurvik/core/judge"
	"nurvik/core/pki"
	"nurvik/internal/audit"
)

// ChainSchema names the form of the JSON of "nurvik chain".
const ChainSchema = "nurvik.chain/1"

// Chains is the answer to "nurvik chain": the first chain by itself, since
// mostly there is one, and the others behind it.
type Chains struct {
	Schema string    `json:"schema"`
	At     time.Time `json:"at"`
	*ChainAnswer
	Others     []*ChainAnswer     `json:"others,omitempty"`
	Unexamined []audit.Unexamined `json:"unexamined"`
}

// ChainAnswer is one chain: as given, as it should be, and what leads where.
type ChainAnswer struct {
	Target    string           `json:"target"`
	Addresses []string         `json:"addresses,omitempty"`
	Leaf      *pki.Description `json:"leaf"`
	Given     []ChainLink      `json:"given"`
	Right     []ChainLink      `json:"right"`
	Complete  bool             `json:"complete"`
	// the answer: some store accepts it, every audience does, and every name is covered
	Trusted    bool                    `json:"trusted"`
	Paths      []ChainPath             `json:"paths"`
	Audiences  []ChainAudience         `json:"audiences"`
	Revocation []judge.RevocationState `json:"revocation"`
	Findings   []judge.Finding         `json:"findings"`
	Bundle     []string                `json:"bundle"` // PEM, complete and in order; empty where no valid path is known
}

// ChainLink is one certificate of a chain.
type ChainLink struct {
	pki.Summary
	Role  chain.Role  `json:"role"`
	Place chain.Place `json:"place"`
}

// ChainAudience is what one trust store makes of the chain.
type ChainAudience struct {
	Store    string     `json:"store"`
	Required bool       `json:"required"`
	Trusted  bool       `json:"trusted"`
	Reason   string     `json:"reason,omitempty"`
	Until    *time.Time `json:"until,omitempty"`
	GaveUp   bool       `json:"gave_up,omitempty"`
	More     int        `json:"more_paths,omitempty"`
}

// ChainPath is one path, with the store that it leads to.
type ChainPath struct {
	Store  string   `json:"store"`
	Labels []string `json:"labels"`
	judge.PathView
}

// chainAreas are the areas of findings that are about chains.
var chainAreas = []string{"chain", "trust", "revoke", "time", "name", "algo", "key", "file", "reach", "dns"}

// NewChains makes the answer out of an audit of what the call named.
func NewChains(r *audit.Report) *Chains {
	out := &Chains{Schema: ChainSchema, At: r.At, Unexamined: r.Unexamined}
	for _, t := range r.Targets {
		out.add(t.Judgement)
	}
	return out
}

func (c *Chains) add(j judge.Judgement) {
	known := map[pki.Fingerprint]pki.Description{}
	for _, d := range j.Certificates {
		known[d.SHA256] = d
	}
	var findings []judge.Finding
	for _, f := range j.Findings {
		area, _, _ := strings.Cut(f.Code, ".")
		if slices.Contains(chainAreas, area) {
			findings = append(findings, f)
		}
	}
	uncovered := slices.ContainsFunc(findings, func(f judge.Finding) bool { return f.Code == "name.uncovered" })
	for i, x := range j.Chains {
		a := &ChainAnswer{Target: j.Target, Addresses: x.Addresses, Complete: x.View.Complete, Revocation: x.Revocation,
			Bundle: x.Bundle,
			Given:  []ChainLink{}, Right: []ChainLink{}, Paths: []ChainPath{}, Audiences: []ChainAudience{},
			Findings: []judge.Finding{}}
		if a.Bundle == nil {
			a.Bundle = []string{}
		}
		link := func(l chain.Link) ChainLink {
			d := known[l.SHA256]
			return ChainLink{d.Summary, l.Role, l.Place}
		}
		for _, l := range x.View.Given {
			a.Given = append(a.Given, link(l))
		}
		for _, l := range x.View.Right {
			a.Right = append(a.Right, link(l))
		}
		leaf := known[a.Right[0].SHA256]
		a.Leaf = &leaf
		for _, s := range x.Audiences {
			a.Audiences = append(a.Audiences, ChainAudience{s.Store, s.Required, s.Trusted, s.Reason, s.Until, s.GaveUp,
				s.More})
			for _, p := range s.Paths {
				path := ChainPath{Store: s.Store, PathView: p}
				for _, id := range p.Certificates {
					path.Labels = append(path.Labels, known[id].Label)
				}
				a.Paths = append(a.Paths, path)
			}
		}
		if len(j.Chains) == 1 || i == 0 { // findings are of the target as a whole
			a.Findings = append(a.Findings, findings...)
		}
		a.Trusted = trusted(x.Audiences) && !uncovered
		if c.ChainAnswer == nil {
			c.ChainAnswer = a
		} else {
			c.Others = append(c.Others, a)
		}
	}
}

// trusted reports whether some alternative and every audience accept the chain.
func trusted(stores []judge.Audience) bool {
	some, alternatives := false, false
	for _, s := range stores {
		if s.Required && !s.Trusted {
			return false
		}
		if !s.Required {
			alternatives = true
			some = some || s.Trusted
		}
	}
	return some || !alternatives
}

// All are the chains in order.
func (c *Chains) All() []*ChainAnswer {
	if c.ChainAnswer == nil {
		return nil
	}
	return append([]*ChainAnswer{c.ChainAnswer}, c.Others...)
}

// Yes reports whether the answer is yes for every chain.
func (c *Chains) Yes() bool {
	return !slices.ContainsFunc(c.All(), func(a *ChainAnswer) bool { return !a.Trusted })
}

// Reaches reports whether a finding is at least as severe as the limit.
func (c *Chains) Reaches(limit judge.Severity) bool {
	return slices.ContainsFunc(c.All(), func(a *ChainAnswer) bool { return judge.Reach(a.Findings, limit) })
}

// Unverifiable reports whether a chain could not be judged to its end.
func (c *Chains) Unverifiable() bool {
	return slices.ContainsFunc(c.All(), func(a *ChainAnswer) bool {
		return slices.ContainsFunc(a.Findings, func(f judge.Finding) bool {
			return f.Code == "algo.unverifiable" ||
				f.Code == "chain.gave-up"
		})
	})
}
