package judge

import (
	"fmt"

	"nurvik/core/facts"
	"nurvik/core/pki"
)

// firsts are the first and the second thing of a kind in a file, and how many there are behind the first.
type firsts struct {
	what          string
	first, second *piece
	id            pki.Fingerprint // of the first
	seen          map[pki.Fingerprint]bool
	others        int
}

func (f *firsts) add(p *piece, id pki.Fingerprint) {
	switch {
	case f.first == nil:
		f.first, f.id = p, id
	case id == f.id:
	case !f.seen[id]:
		if f.seen == nil {
			f.seen = map[pki.Fingerprint]bool{}
		}
		f.seen[id] = true
		if f.others++; f.second == nil {
			f.second = p
		}
	}
}

func (f *firsts) sentence() string {
	label := func(p *piece) string {
		if p.item.Kind == facts.Certificate {
			return fmt.Sprintf("%s at %s", p.brief.Label, p.place())
		}
		return "at " + p.place()
	}
	if f.others == 1 {
		return fmt.Sprintf("A server loads the first %s (%s); the second (%s) is never used.", f.what, label(f.first),
			label(f.second))
	}
	return fmt.Sprintf("A server loads the first %s (%s); the other %d (the next %s) are never used.", f.what,
		label(f.first), f.others, label(f.second))
}
