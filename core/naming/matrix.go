package naming

import (
	"slices"
	"strings"

	"nurvik/core/pki"
)

// Matrix is needed names against certificates.
type Matrix struct {
	Needed       []Need   `json:"needed"`
	Certificates []Column `json:"certificates"`
	Proposal     Proposal `json:"proposal"`
}

// Need is one needed name.
type Need struct {
	Name    string `json:"name"`
	Outside string `json:"outside,omitempty" doc:"Why nobody outside can reach it"`
	Covered []Cell `json:"covered" doc:"The certificates that cover it"`
	Missed  []Cell `json:"missed,omitempty" doc:"Those that do not, with the entry that comes nearest; of very many only the nearest"`
}

// Cell is one name against one certificate.
type Cell struct {
	Certificate int    `json:"certificate" doc:"Its place in the list of certificates, from 0"`
	Entry       string `json:"entry,omitempty"`
	Reason      string `json:"reason,omitempty"`
	Remedy      string `json:"remedy,omitempty"`
}

// Column is one certificate.
type Column struct {
	Target string `json:"target"`
	pki.Summary
	Unneeded []string `json:"unneeded" doc:"Its entries that cover none of the needed names"`
	Remarks  []Remark `json:"remarks,omitempty"`

	certificate *pki.Certificate
}

// Proposal is the smallest set of entries that covers all needed names.
type Proposal struct {
	Plain     []string `json:"plain" doc:"Without wildcards"`
	Wildcards []string `json:"wildcards" doc:"With wildcards where one takes the place of several names"`
}

// Covers reports whether each name is covered by one of the certificates.
func (m *Matrix) Covers() bool {
	return !slices.ContainsFunc(m.Needed, func(n Need) bool { return len(n.Covered) == 0 })
}

// NewColumn is a certificate of the target.
func NewColumn(target string, c *pki.Certificate) Column {
	return Column{Target: target, Summary: c.Summary(), Remarks: Remarks(c), Unneeded: []string{}, certificate: c}
}

// mostCells is up to how many cells the whole matrix is told; of a larger one the names that nobody covers are.
const mostCells = 5000

// nearMost is how many certificates are looked at for the nearest miss of a name among very many.
const nearMost = 50

// Compare finds out which of the certificates cover which of the names, each of which counts once.
func Compare(names []Reference, columns []Column) *Matrix {
	names = unique(names)
	m := &Matrix{Needed: make([]Need, len(names)), Certificates: columns,
		Proposal: Proposal{Propose(names, false), Propose(names, true)}}
	x := newIndex(columns)
	used := make([]map[string]bool, len(columns))
	for i, r := range names {
		n := Need{Name: r.String(), Outside: r.Outside(), Covered: []Cell{}}
		for _, at := range x.candidates(r) {
			entry, ok := r.CoveredBy(columns[at].certificate)
			if !ok {
				continue
			}
			n.Covered = append(n.Covered, Cell{Certificate: at, Entry: entry.Value})
			if used[at] == nil {
				used[at] = map[string]bool{}
			}
			used[at][entry.String()] = true
		}
		if len(names)*len(columns) <= mostCells || len(n.Covered) == 0 {
			n.Missed = x.missed(r, n.Covered)
		}
		m.Needed[i] = n
	}
	for at := range columns {
		for _, g := range columns[at].certificate.AltNames {
			if (g.Kind == pki.NameDNS || g.Kind == pki.NameIP || g.Kind == pki.NameURI || g.Service != "") &&
				!used[at][g.String()] {
				columns[at].Unneeded = append(columns[at].Unneeded, pki.Printable(g.Value))
			}
		}
	}
	return m
}

func unique(names []Reference) []Reference {
	seen := map[Reference]bool{}
	return slices.DeleteFunc(slices.Clone(names), func(r Reference) bool {
		defer func() { seen[r] = true }()
		return seen[r]
	})
}

// index finds the certificates that may cover a name, by their entries.
type index struct {
	columns []Column
	exact   map[string][]int // by the canonical entry
	near    map[string][]int // by the domain that an entry is under, or is
}

func newIndex(columns []Column) *index {
	x := &index{columns: columns, exact: map[string][]int{}, near: map[string][]int{}}
	note := func(where map[string][]int, key string, at int) {
		if list := where[key]; len(list) == 0 || list[len(list)-1] != at {
			where[key] = append(list, at)
		}
	}
	for at := range columns {
		for _, g := range columns[at].certificate.AltNames {
			switch g.Kind {
			case pki.NameIP:
				if g.Address.IsValid() {
					note(x.exact, g.Address.String(), at)
				}
			case pki.NameOther:
				note(x.exact, strings.ToLower(g.Service), at)
			case pki.NameURI:
				note(x.exact, uriMark, at)
			case pki.NameDNS:
				entry := strings.ToLower(g.Value)
				note(x.exact, entry, at)
				bare := strings.Trim(strings.TrimPrefix(strings.TrimPrefix(entry, "*."), "www."), ".")
				note(x.near, bare, at)
				if _, parent, ok := strings.Cut(bare, "."); ok {
					note(x.near, parent, at)
				}
			}
		}
		if common := strings.ToLower(columns[at].certificate.Subject.CommonName()); common != "" {
			note(x.near, common, at)
		}
	}
	return x
}

// uriMark stands for any URI entry; no name is so.
const uriMark = "uri:"

// candidates are the certificates with an entry that equals the name or is the wildcard above it.
func (x *index) candidates(r Reference) []int {
	out := x.exact[r.String()]
	if r.scheme != "" { // a few certificates have URI entries: each is looked at
		out = x.exact[uriMark]
	}
	if _, parent, ok := strings.Cut(r.host, "."); ok && r.scheme == "" {
		if more := x.exact["*."+parent]; len(more) > 0 {
			out = slices.Concat(out, more)
			slices.Sort(out)
			out = slices.Compact(out)
		}
	}
	return out
}

// missed says of each certificate that does not cover the name why not; of very many only the nearest says it.
func (x *index) missed(r Reference, covered []Cell) []Cell {
	covers := map[int]bool{}
	for _, c := range covered {
		covers[c.Certificate] = true
	}
	miss := func(at int) Cell {
		m := r.Missed(x.columns[at].certificate)
		return Cell{Certificate: at, Entry: m.Entry, Reason: m.Reason, Remedy: m.Remedy}
	}
	if len(x.columns) <= nearMost {
		var out []Cell
		for at := range x.columns {
			if !covers[at] {
				out = append(out, miss(at))
			}
		}
		return out
	}
	var nearest []int
	for domain := strings.TrimPrefix(r.String(), "www."); domain != "" && len(nearest) < nearMost; {
		list := x.near[domain]
		nearest = append(nearest, list[:min(len(list), nearMost)]...)
		_, domain, _ = strings.Cut(domain, ".")
	}
	best, rank := Cell{}, -1
	for _, at := range append(nearest, 0) {
		m, worth := r.miss(x.columns[at].certificate)
		if worth > rank {
			best, rank = Cell{Certificate: at, Entry: m.Entry, Reason: m.Reason, Remedy: m.Remedy}, worth
		}
	}
	return []Cell{best}
}
