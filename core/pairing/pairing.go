// Package pairing finds out which keys, requests and certificates belong
// together: those with the same public key. It also tells what is left over,
// and which sets for the same names followed one another.
package pairing

import (
	"bytes"
	"cmp"
	"encoding/json"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"nurvik/core/brief"
	"nurvik/core/facts"
	"nurvik/core/pki"
)

// Member is one piece of material: a key, a request or a certificate.
type Member struct {
	*facts.Item
	*pki.Brief        // empty for a key whose public half is not known
	Path       string // of its file
	Valid      bool   // the certificate is valid at the time of judging
	Why        string // of left-overs: why it is one

	file int // index of its file
}

// MemberView is the form of a member for programs.
type MemberView struct {
	Kind      facts.ItemKind `json:"kind"`
	Path      string         `json:"path"`
	Line      int            `json:"line,omitempty"`
	Offset    int            `json:"offset,omitempty"`
	Container string         `json:"container,omitempty"`
	Alias     string         `json:"alias,omitempty"`
	pki.Summary
	Valid  bool   `json:"valid,omitempty"`
	Locked string `json:"locked,omitempty"` // why the key stayed closed
	Why    string `json:"why,omitempty"`
}

// MarshalJSON implements json.Marshaler.
func (m Member) MarshalJSON() ([]byte, error) { return json.Marshal(m.View()) }

// View is the form for programs.
func (m Member) View() MemberView {
	out := MemberView{Kind: m.Kind, Path: m.Path, Line: m.Line, Offset: m.Offset, Container: m.Container,
		Alias: m.Alias, Summary: m.Summary, Valid: m.Valid, Locked: m.Closed(), Why: m.Why}
	if m.Kind == facts.PrivateKey {
		out.SHA256 = pki.Fingerprint{}
	}
	return out
}

// Closed says why a key stayed closed, "" when it did not.
func (m Member) Closed() string {
	if m.Item.Key != nil {
		return m.Item.Key.Locked
	}
	return ""
}

// Group is what belongs to one key.
type Group struct {
	SPKI         pki.Fingerprint `json:"spki" doc:"SHA-256 of the public key's usual form"`
	Key          string          `json:"key"`
	Keys         []*Member       `json:"keys"`
	Certificates []*Member       `json:"certificates" doc:"The newest first"`
	Requests     []*Member       `json:"requests"`
}

// Step is one set of a succession.
type Step struct {
	Certificate Member          `json:"certificate"`
	Paths       []string        `json:"paths" doc:"Every file that holds the certificate"`
	Keys        []string        `json:"keys" doc:"Every file that holds its key"`
	SPKI        pki.Fingerprint `json:"spki"`
}

// Succession is the sets for the same names in order of time.
type Succession struct {
	Names []string `json:"names"`
	Steps []Step   `json:"steps" doc:"The oldest first"`
}

// Result is what belongs together and what does not.
type Result struct {
	Groups      []Group      `json:"groups"`
	Unpaired    []Member     `json:"unpaired"`
	Successions []Succession `json:"successions"`

	members     []Member         // whose places are fixed once all are there
	directories map[string][]int // indexes of members by directory
	beside      map[string]beside
}

// Pair sorts the material of the files. The time decides which certificates
// are valid now; the memory may be nil.
func Pair(files []facts.File, memory *brief.Memory, at time.Time) *Result {
	r := &Result{Groups: []Group{}, Unpaired: []Member{}, Successions: []Succession{}, directories: map[string][]int{},
		beside: map[string]beside{}}
	count := 0
	for _, f := range files {
		for _, item := range f.Items {
			if item.Kind == facts.PrivateKey || item.Kind == facts.Certificate || item.Kind == facts.Request {
				count++
			}
		}
	}
	r.members = make([]Member, 0, count)
	for i := range files {
		f := &files[i]
		directory := filepath.Dir(f.Path)
		for n := range f.Items {
			if m, ok := member(f, n, memory, at); ok {
				m.file = i
				r.members = append(r.members, m)
				r.note(directory, &m)
			}
		}
	}
	r.group()
	r.succeed(at)
	return r
}

// nothing is the brief of keys of which nothing is known.
var nothing pki.Brief

// member makes a member of an item. Other kinds than keys, certificates and requests are left out.
func member(f *facts.File, n int, memory *brief.Memory, at time.Time) (Member, bool) {
	m := Member{Item: &f.Items[n], Brief: &nothing, Path: f.Path}
	switch m.Kind {
	case facts.PrivateKey, facts.Certificate, facts.Request:
		if b := memory.Of(m.Item); b != nil {
			m.Brief = b
		} else if m.Kind != facts.PrivateKey {
			return m, false
		}
		m.Valid = m.Kind == facts.Certificate && !m.NotBefore.IsZero() && !at.Before(m.NotBefore) &&
			!at.After(m.NotAfter)
		return m, true
	}
	return m, false
}

// Comparable reports whether the member's public key is known.
func (m Member) Comparable() bool { return !m.Match().IsZero() }

// group sorts members by key. A group has at least two kinds of material;
// anything else is left over, except authorities, which nobody expects to have their keys here.
func (r *Result) group() {
	byKey := map[pki.Fingerprint]*Group{}
	var order []*Group
	for i := range r.members {
		m := &r.members[i]
		if !m.Comparable() {
			left := *m
			left.Why = "its public half is not known, so it cannot be compared"
			if reason := m.Closed(); reason != "" {
				left.Why = "it is locked (" + strings.ReplaceAll(reason, "-", " ") + "), so it cannot be compared"
			}
			r.Unpaired = append(r.Unpaired, left)
			continue
		}
		g := byKey[m.Match()]
		if g == nil {
			g = &Group{SPKI: m.Match(), Key: m.Summary.Key, Keys: []*Member{}, Certificates: []*Member{},
				Requests: []*Member{}}
			byKey[m.Match()] = g
			order = append(order, g)
		}
		switch m.Kind {
		case facts.PrivateKey:
			g.Keys = append(g.Keys, m)
		case facts.Certificate:
			g.Certificates = append(g.Certificates, m)
		case facts.Request:
			g.Requests = append(g.Requests, m)
		}
	}
	for _, g := range order {
		slices.SortStableFunc(g.Certificates, func(a, b *Member) int { return b.NotBefore.Compare(a.NotBefore) })
		kinds := min(len(g.Keys), 1) + min(len(g.Certificates), 1) + min(len(g.Requests), 1)
		if kinds > 1 {
			r.Groups = append(r.Groups, *g)
			continue
		}
		r.leftOver(g.Keys, "no certificate or request has this key")
		r.leftOver(g.Requests, "the certificate that was requested is not here, nor the key")
		leaves := slices.DeleteFunc(slices.Clone(g.Certificates),
			func(m *Member) bool { return m.CA || m.Trusted })
		r.leftOver(leaves, "its private key is not here")
	}
}

func (r *Result) leftOver(members []*Member, why string) {
	for _, m := range members {
		left := *m
		left.Why = why
		r.Unpaired = append(r.Unpaired, left)
	}
}

// nameKey is the same for certificates for the same names.
func nameKey(m Member) string {
	if len(m.Names) == 1 {
		return strings.ToLower(m.Names[0])
	}
	names := slices.Clone(m.Names)
	for i, n := range names {
		names[i] = strings.ToLower(n)
	}
	slices.Sort(names)
	return strings.Join(slices.Compact(names), " ")
}

// succeed finds certificates for the same names that followed one another.
// Certificates with keys of two kinds stand side by side on purpose, so they
// do not succeed each other while both are valid.
func (r *Result) succeed(at time.Time) {
	byNames := map[string][]*Member{} // those for the same names, where there are different ones
	first := map[string]*Member{}
	for i := range r.members {
		m := &r.members[i]
		if m.Kind != facts.Certificate || m.CA || m.Trusted || len(m.Names) == 0 || m.NotBefore.IsZero() {
			continue
		}
		key := nameKey(*m)
		switch known := first[key]; {
		case known == nil:
			first[key] = m
		case known.SHA256 != m.SHA256:
			byNames[key] = nil
		}
	}
	if len(byNames) == 0 {
		return
	}
	keys := map[pki.Fingerprint][]string{}
	for i := range r.members {
		m := &r.members[i]
		if m.Kind == facts.PrivateKey && m.Comparable() {
			keys[m.Match()] = append(keys[m.Match()], m.Path)
		}
		if m.Kind != facts.Certificate || m.CA || m.Trusted || len(m.Names) == 0 || m.NotBefore.IsZero() {
			continue
		}
		key := nameKey(*m)
		if _, several := byNames[key]; several {
			byNames[key] = append(byNames[key], m)
		}
	}
	for match, paths := range keys {
		slices.Sort(paths)
		keys[match] = slices.Compact(paths)
	}
	for _, members := range byNames {
		if steps := sequence(stepsOf(members, keys), at); len(steps) > 1 {
			r.Successions = append(r.Successions, Succession{Names: steps[0].Certificate.Names, Steps: steps})
		}
	}
	slices.SortFunc(r.Successions, func(a, b Succession) int { return slices.Compare(a.Names, b.Names) })
}

// stepsOf makes a step of each different certificate, the oldest first.
func stepsOf(members []*Member, keys map[pki.Fingerprint][]string) []Step {
	steps := []Step{}
	places := map[pki.Fingerprint]int{}
	for _, m := range members {
		i, known := places[m.SHA256]
		if !known {
			i = len(steps)
			places[m.SHA256] = i
			own := keys[m.Match()]
			if own == nil {
				own = []string{}
			}
			steps = append(steps, Step{Certificate: *m, SPKI: m.Match(), Keys: own})
		}
		if p := steps[i].Paths; len(p) == 0 || p[len(p)-1] != m.Path { // members come file by file
			steps[i].Paths = append(p, m.Path)
		}
	}
	slices.SortFunc(steps, func(a, b Step) int {
		return cmp.Or(a.Certificate.NotBefore.Compare(b.Certificate.NotBefore),
			bytes.Compare(a.Certificate.SHA256[:], b.Certificate.SHA256[:]))
	})
	return steps
}

// sequence drops those that are no part of one line: valid ones beside the
// newest with a key of another kind.
func sequence(steps []Step, at time.Time) []Step {
	if len(steps) < 2 {
		return steps
	}
	newest := steps[len(steps)-1].Certificate
	kind, _, _ := strings.Cut(newest.Summary.Key, " ")
	return slices.DeleteFunc(steps, func(s Step) bool {
		own, _, _ := strings.Cut(s.Certificate.Summary.Key, " ")
		return own != kind && !s.Certificate.NotAfter.Before(at)
	})
}
