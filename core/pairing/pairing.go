// Package pairing finds out which keys, requests and certificates belong
// together: those with the same public key. It also tells what is left over,
// and which sets for the same names followed one another.
package pairing

import (
	"cmp"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"nurvik/core/facts"
	"nurvik/core/pki"
)

// Member is one piece of material, with what pairing needs of it.
type Member struct {
	Kind        facts.ItemKind   `json:"kind"`
	Path        string           `json:"path"`
	Line        int              `json:"line,omitempty"`
	Offset      int              `json:"offset,omitempty"`
	Container   string           `json:"container,omitempty"`
	Alias       string           `json:"alias,omitempty"`
	Fingerprint *pki.Fingerprint `json:"sha256,omitempty" doc:"SHA-256 of the DER, of certificates and requests"`
	Label       string           `json:"label,omitempty" doc:"Whose it is"`
	Names       []string         `json:"names,omitempty"`
	NotBefore   *time.Time       `json:"not_before,omitempty"`
	NotAfter    *time.Time       `json:"not_after,omitempty"`
	Valid       bool             `json:"valid,omitempty" doc:"The certificate is valid at the time of judging"`
	Authority   bool             `json:"authority,omitempty"`
	Locked      string           `json:"locked,omitempty" doc:"Why the key stayed closed"`
	Key         string           `json:"key,omitempty" doc:"Such as EC P-256"`
	Serial      string           `json:"serial,omitempty"`
	Why         string           `json:"why,omitempty" doc:"Of left-overs: why it is one"`

	file    int // index of its file
	match   pki.Fingerprint
	trusted bool // an anchor, by its place in a keystore
}

// Group is what belongs to one key.
type Group struct {
	SPKI         pki.Fingerprint `json:"spki" doc:"SHA-256 of the public key's usual form"`
	Key          string          `json:"key"`
	Keys         []Member        `json:"keys"`
	Certificates []Member        `json:"certificates" doc:"The newest first"`
	Requests     []Member        `json:"requests"`
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

	members     []Member
	directories map[string][]int // indexes of members by directory
}

// Pair sorts the material of the files. The time decides which certificates
// are valid now.
func Pair(files []facts.File, at time.Time) *Result {
	r := &Result{Groups: []Group{}, Unpaired: []Member{}, Successions: []Succession{}, directories: map[string][]int{}}
	for i, f := range files {
		for _, item := range f.Items {
			if m, ok := member(i, f, item, at); ok {
				directory := filepath.Dir(m.Path)
				r.directories[directory] = append(r.directories[directory], len(r.members))
				r.members = append(r.members, m)
			}
		}
	}
	r.group()
	r.succeed(at)
	return r
}

// member takes from an item what pairing needs. Other kinds than keys, certificates and requests are left out.
func member(index int, f facts.File, item facts.Item, at time.Time) (Member, bool) {
	m := Member{Kind: item.Kind, Path: f.Path, Line: item.Line, Offset: item.Offset, Container: item.Container, Alias: item.Alias, file: index, trusted: item.Trusted}
	switch item.Kind {
	case facts.PrivateKey:
		m.Locked, m.Key = item.Key.Locked, item.Key.Type
		if len(item.Key.SPKI) > 0 {
			if k, err := pki.ParsePublicKey(item.Key.SPKI); err == nil {
				m.match = k.Match()
			}
		}
	case facts.Certificate:
		c, err := pki.ParseCertificate(item.DER)
		if err != nil {
			return m, false
		}
		fingerprint := c.Fingerprint()
		m.Fingerprint, m.Label, m.Names, m.Serial = &fingerprint, c.Label(), c.HostNames(), c.SerialHex()
		m.NotBefore, m.NotAfter, m.Valid = &c.NotBefore, &c.NotAfter, !at.Before(c.NotBefore) && !at.After(c.NotAfter)
		m.Authority, m.Key, m.match = c.IsCA(), c.PublicKey.String(), c.PublicKey.Match()
	case facts.Request:
		q, err := pki.ParseRequest(item.DER)
		if err != nil {
			return m, false
		}
		fingerprint := pki.FingerprintOf(q.Raw)
		m.Fingerprint, m.Label, m.Names, m.Key, m.match = &fingerprint, q.Label(), q.Wanted.HostNames(), q.PublicKey.String(), q.PublicKey.Match()
	default:
		return m, false
	}
	return m, true
}

// Comparable reports whether the member's public key is known.
func (m Member) Comparable() bool { return !m.match.IsZero() }

// group sorts members by key. A group has at least two kinds of material;
// anything else is left over, except authorities, which nobody expects to have their keys here.
func (r *Result) group() {
	byKey := map[pki.Fingerprint]*Group{}
	var order []*Group
	for _, m := range r.members {
		if !m.Comparable() {
			m.Why = "its public half is not known, so it cannot be compared"
			if m.Locked != "" {
				m.Why = "it is locked (" + strings.ReplaceAll(m.Locked, "-", " ") + "), so it cannot be compared"
			}
			r.Unpaired = append(r.Unpaired, m)
			continue
		}
		g := byKey[m.match]
		if g == nil {
			g = &Group{SPKI: m.match, Key: m.Key, Keys: []Member{}, Certificates: []Member{}, Requests: []Member{}}
			byKey[m.match] = g
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
		slices.SortStableFunc(g.Certificates, func(a, b Member) int { return b.NotBefore.Compare(*a.NotBefore) })
		kinds := min(len(g.Keys), 1) + min(len(g.Certificates), 1) + min(len(g.Requests), 1)
		if kinds > 1 {
			r.Groups = append(r.Groups, *g)
			continue
		}
		r.leftOver(g.Keys, "no certificate or request has this key")
		r.leftOver(g.Requests, "the certificate that was requested is not here, nor the key")
		leaves := slices.DeleteFunc(slices.Clone(g.Certificates), func(m Member) bool { return m.Authority || m.trusted })
		r.leftOver(leaves, "its private key is not here")
	}
}

func (r *Result) leftOver(members []Member, why string) {
	for _, m := range members {
		m.Why = why
		r.Unpaired = append(r.Unpaired, m)
	}
}

// nameKey is the same for certificates for the same names.
func nameKey(m Member) string {
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
	sets := map[string]map[pki.Fingerprint]*Step{}
	keys := map[pki.Fingerprint][]string{}
	for _, m := range r.members {
		if m.Kind == facts.PrivateKey && m.Comparable() {
			keys[m.match] = append(keys[m.match], m.Path)
		}
	}
	for _, m := range r.members {
		if m.Kind != facts.Certificate || m.Authority || m.trusted || len(m.Names) == 0 || m.NotBefore.IsZero() {
			continue
		}
		key := nameKey(m)
		if sets[key] == nil {
			sets[key] = map[pki.Fingerprint]*Step{}
		}
		s := sets[key][*m.Fingerprint]
		if s == nil {
			s = &Step{Certificate: m, SPKI: m.match, Keys: slices.Compact(slices.Sorted(slices.Values(keys[m.match])))}
			if s.Keys == nil {
				s.Keys = []string{}
			}
			sets[key][*m.Fingerprint] = s
		}
		if !slices.Contains(s.Paths, m.Path) {
			s.Paths = append(s.Paths, m.Path)
		}
	}
	for _, set := range sets {
		steps := make([]Step, 0, len(set))
		for _, s := range set {
			steps = append(steps, *s)
		}
		slices.SortFunc(steps, func(a, b Step) int {
			return cmp.Or(a.Certificate.NotBefore.Compare(*b.Certificate.NotBefore), cmp.Compare(a.Certificate.Fingerprint.String(), b.Certificate.Fingerprint.String()))
		})
		if steps = sequence(steps, at); len(steps) > 1 {
			r.Successions = append(r.Successions, Succession{Names: steps[0].Certificate.Names, Steps: steps})
		}
	}
	slices.SortFunc(r.Successions, func(a, b Succession) int { return slices.Compare(a.Names, b.Names) })
}

// sequence drops those that are no part of one line: valid ones beside the
// newest with a key of another kind.
func sequence(steps []Step, at time.Time) []Step {
	if len(steps) < 2 {
		return steps
	}
	newest := steps[len(steps)-1].Certificate
	kind, _, _ := strings.Cut(newest.Key, " ")
	return slices.DeleteFunc(steps, func(s Step) bool {
		own, _, _ := strings.Cut(s.Certificate.Key, " ")
		return own != kind && !s.Certificate.NotAfter.Before(at)
	})
}
