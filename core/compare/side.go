package compare

import (
	"slices"

	"nurvik/core/chain"
	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/pki"
	"nurvik/core/trust"
)

// Side is one of the two things that are compared.
type Side struct {
	Name string // as it was called

	leaves      []*pki.Certificate
	requests    []*pki.Request
	keys        []pki.PublicKey // of private keys, or of lone public ones
	authorities []*pki.Certificate
	anchors     []trust.Anchor
	store       bool
	visits      []facts.Observation
	unknown     []string // what is there and could not be read
}

// OfFiles is what is in files.
func OfFiles(name string, files []facts.File) Side {
	s := Side{Name: name}
	var given []*pki.Certificate
	for i := range files {
		if _, closed := judge.Locked(files[i]); closed != "" {
			s.unknown = append(s.unknown, files[i].Path+": "+closed)
		}
		for _, d := range files[i].Defects {
			if d.Kind == facts.Damaged {
				s.unknown = append(s.unknown, files[i].Path+": a part of it is damaged and could not be read")
			}
		}
		for _, item := range files[i].Items {
			switch item.Kind {
			case facts.Certificate:
				if c, err := pki.ParseCertificate(item.DER); err == nil {
					given = append(given, c)
				}
			case facts.Request:
				if r, err := pki.ParseRequest(item.DER); err == nil {
					s.requests = append(s.requests, r)
				}
			case facts.PublicKey:
				s.key(item.DER)
			case facts.PrivateKey:
				s.key(item.Key.SPKI)
			}
		}
	}
	s.certificates(given, judge.LeavesAmong(given))
	return s
}

func (s *Side) key(spki []byte) {
	if k, err := pki.ParsePublicKey(spki); err == nil {
		s.keys = append(s.keys, k)
	}
}

// certificates sorts out leaves and authorities, each once.
func (s *Side) certificates(given, leaves []*pki.Certificate) {
	leaf, seen := map[pki.Fingerprint]bool{}, map[pki.Fingerprint]bool{}
	for _, c := range s.leaves {
		leaf[c.Fingerprint()] = true
	}
	for _, c := range leaves {
		if !leaf[c.Fingerprint()] {
			s.leaves = append(s.leaves, c)
		}
		leaf[c.Fingerprint()] = true
	}
	for _, c := range s.authorities {
		seen[c.Fingerprint()] = true
	}
	for _, c := range given {
		if !leaf[c.Fingerprint()] && !seen[c.Fingerprint()] {
			s.authorities = append(s.authorities, c)
		}
		seen[c.Fingerprint()] = true
	}
}

// OfEndpoint is what an endpoint serves, on all of its addresses.
func OfEndpoint(name string, e facts.Endpoint) Side {
	s := Side{Name: name}
	for _, o := range e.Observations {
		if o.Outcome != facts.Answered {
			continue
		}
		s.visits = append(s.visits, o)
		var served []*pki.Certificate
		for _, der := range o.Certificates {
			if c, err := pki.ParseCertificate(der); err == nil {
				served = append(served, c)
			}
		}
		if len(served) > 0 {
			s.certificates(served, []*pki.Certificate{served[chain.ServedLeaf(served)]})
		}
	}
	return s
}

// OfStore is a trust store.
func OfStore(name string, store *trust.Store) Side {
	return Side{Name: name, anchors: store.Anchors, store: true}
}

// Empty reports whether there is nothing to compare.
func (s *Side) Empty() bool {
	return !s.store && len(s.leaves)+len(s.requests)+len(s.keys)+len(s.authorities) == 0
}

// lone reports whether the side's only certificate, which is that of a CA, is compared as a certificate with
// something of the other side: not where both are trust stores or bundles that happen to have one each.
func (s *Side) lone(other *Side) bool {
	if len(s.leaves)+len(s.requests) > 0 || len(s.authorities) != 1 {
		return false
	}
	if len(other.leaves)+len(other.requests) > 0 || len(other.authorities) == 0 {
		return true
	}
	a, b := s.authorities[0], other.authorities[0]
	return len(other.authorities) == 1 &&
		(a.Subject.Key() == b.Subject.Key() || a.PublicKey.Match() == b.PublicKey.Match())
}

// things are what is compared one by one: the leaves, else the requests, else
// the only certificate, else the keys. A side of authorities has none.
func (s *Side) things(other *Side) []thing {
	var out []thing
	switch {
	case len(s.leaves) > 0:
		for _, c := range s.leaves {
			out = append(out, ofCertificate(c))
		}
	case len(s.requests) > 0:
		seen := map[pki.Fingerprint]bool{}
		for _, r := range s.requests {
			if id := pki.FingerprintOf(r.Raw); !seen[id] {
				seen[id] = true
				out = append(out, thing{kind: facts.Request, id: id, label: r.Label(), subject: r.Subject,
					key: r.PublicKey, extensions: r.Wanted, request: r})
			}
		}
	case s.lone(other):
		out = append(out, ofCertificate(s.authorities[0]))
	case len(s.authorities) == 0:
		var seen []pki.Fingerprint
		for _, k := range s.keys {
			if !slices.Contains(seen, k.Match()) {
				seen = append(seen, k.Match())
				out = append(out, thing{kind: facts.PrivateKey, id: k.Match(), label: k.String(), key: k})
			}
		}
	}
	return out
}

// above are the authorities that are compared as a set: those that are no thing by themselves.
func (s *Side) above(other *Side) []*pki.Certificate {
	if s.lone(other) {
		return nil
	}
	return s.authorities
}
