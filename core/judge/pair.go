package judge

import (
	"fmt"
	"path/filepath"
	"slices"

	"nurvik/core/facts"
	"nurvik/core/pairing"
	"nurvik/core/pki"
)

// pairPossessionFailed tells of endpoints that do not have the key of what they serve.
func pairPossessionFailed(b *bundle) []Finding {
	if b.possession != facts.PossessionFailed {
		return nil
	}
	return []Finding{aboutCertificate("pair.possession-failed", b.leaf,
		"What the endpoint signed in the handshake does not verify with the certificate of %s: it does not have "+
			"its key.", b.leaf.Label())}
}

const setMismatchCode = "pair.key-mismatch"

// pairKeyMismatch judges what names and directories put together.
func pairKeyMismatch(p *pairs) []located {
	var out []located
	for _, s := range p.sets {
		key, certificate, mismatch := s.Mismatch()
		if !mismatch {
			continue
		}
		name := filepath.Base(certificate.Path)
		f := found(setMismatchCode, name, name, "The key in %s does not belong to the certificate of %s in %s.",
			filepath.Base(key.Path), certificate.Brief.Label, name)
		if fits := p.holders(certificate.Match(), facts.PrivateKey); len(fits) > 0 {
			f.Message += " The key of the certificate is in " + fits[0] + "."
			f.Evidence.Paths = fits
		}
		if fits := p.holders(key.Match(), facts.Certificate); len(fits) > 0 {
			f.Message += " The key belongs to the certificate in " + fits[0] + "."
			f.Evidence.Paths = append(f.Evidence.Paths, fits...)
		}
		f.Evidence.Certificate = &certificate.SHA256
		out = append(out, p.of(*key, f))
	}
	for i, key := range p.broken {
		c := p.besideBroken[i]
		f := found("pair.key-mismatch", called(*key), called(*key),
			"The private key of the entry %s does not belong to the certificate of %s that the keystore puts "+
				"beside it.",
			called(*key), c.Brief.Label)
		f.Remedy = "Export key and certificate into the keystore again, from files that belong together: " +
			"\"nurvik pair\" says which do."
		f.Evidence.Certificate = &c.SHA256
		out = append(out, p.of(*key, f))
	}
	return out
}

func pairStoresDisagree(p *pairs) []located {
	var out []located
	for _, s := range p.sets {
		store, file, disagree := s.Disagreement()
		if !disagree || !p.behind[store.File()] {
			continue
		}
		what, which := "key", store.Summary.Key
		if store.Kind == facts.Certificate {
			what, which = "certificate", fmt.Sprintf("%s, issued on %s", store.Brief.Label,
				store.NotBefore.UTC().Format("2006-01-02"))
		}
		name := filepath.Base(file.Path)
		f := found("pair.stores-disagree", name, name, "The %s keystore holds another %s (%s) than %s beside it.",
			store.Container, what, which, name)
		f.Evidence.Paths = []string{file.Path}
		out = append(out, p.of(*store, f))
	}
	return out
}

// pairRequestWaiting tells of requests without a certificate for their key.
func pairRequestWaiting(p *pairs) []located {
	var out []located
	waiting := func(q pairing.Member) {
		f := found("pair.request-waiting", q.SHA256.String(), q.Brief.Label,
			"The certificate request (CSR) of %s is waiting for its certificate: none has its key.", q.Brief.Label)
		f.Evidence.Names = q.Names
		out = append(out, p.of(q, f))
	}
	for _, g := range p.result.Groups {
		if len(g.Certificates) == 0 {
			for _, q := range g.Requests {
				waiting(*q)
			}
		}
	}
	for _, m := range p.result.Unpaired {
		if m.Kind == facts.Request && m.Comparable() && !p.mismatch[m.Match()] {
			waiting(m)
		}
	}
	return out
}

// pairDuplicate judges the files that hold one private key.
func pairDuplicate(p *pairs) []located {
	byKey := map[pki.Fingerprint][]pairing.Member{}
	var order []pki.Fingerprint
	for _, m := range p.result.Members() {
		if m.Kind == facts.PrivateKey && m.Comparable() {
			if byKey[m.Match()] == nil {
				order = append(order, m.Match())
			}
			byKey[m.Match()] = append(byKey[m.Match()], m)
		}
	}
	var out []located
	for _, match := range order {
		members := byKey[match]
		paths, listed := p.copies(members)
		if len(paths) < 2 {
			continue
		}
		owner := members[slices.IndexFunc(members, func(m pairing.Member) bool { return m.Path == paths[0] })]
		f := found("pair.duplicate", owner.Match().String(), filepath.Base(owner.Path),
			"The private key is in %s more: %s.",
			plural(len(paths)-1, "file"), firstFew(paths[1:]))
		if listed != "" {
			f.Severity = Risk
			f.Message += " Others can read the directory " + listed + "."
		}
		f.Evidence.Paths = paths
		out = append(out, p.of(owner, f))
	}
	return out
}

// copies are the different files with one key, sorted, and a directory among theirs that others can read.
func (p *pairs) copies(members []pairing.Member) (paths []string, listed string) {
	type inode struct{ device, number uint64 }
	seen := map[inode]bool{}
	for _, m := range members {
		f := p.files[m.File()]
		if a := f.Access; a != nil && f.Archive == "" && a.Inode != 0 {
			id := inode{a.Device, a.Inode}
			if seen[id] && !slices.Contains(paths, m.Path) {
				continue // another path to the same file
			}
			seen[id] = true
		}
		if !slices.Contains(paths, m.Path) {
			paths = append(paths, m.Path)
		}
		if f.Access != nil && f.Access.Listed && listed == "" {
			listed = filepath.Dir(m.Path)
		}
	}
	slices.Sort(paths)
	return paths, listed
}

func pairNoCertificate(p *pairs) []located {
	var out []located
	for _, m := range p.result.Unpaired {
		if m.Kind == facts.PrivateKey && m.Comparable() && !p.mismatch[m.Match()] {
			out = append(out, p.of(m, found("pair.no-certificate", m.Match().String(), filepath.Base(m.Path),
				"No certificate and no certificate request has the key (%s) in %s.", m.Summary.Key, called(m))))
		}
	}
	return out
}

func pairNoKey(p *pairs) []located {
	var out []located
	for _, m := range p.result.Unpaired {
		if m.Kind != facts.Certificate || !m.Comparable() || p.mismatch[m.Match()] {
			continue
		}
		if beside, uncertain := p.result.Beside(m); beside && !uncertain {
			f := found("pair.no-key", m.SHA256.String(), m.Brief.Label,
				"The private key of %s is not among the keys here.", m.Brief.Label)
			f.Evidence.Certificate = &m.SHA256
			out = append(out, p.of(m, f))
		}
	}
	return out
}

// superseded calls each for a step of a succession that a newer one in force has followed.
func (p *pairs) superseded(each func(old, next pairing.Step)) {
	for _, s := range p.result.Successions {
		for i, step := range s.Steps[:len(s.Steps)-1] {
			next := s.Steps[i+1]
			if next.Certificate.NotBefore.After(p.context.At) {
				break // not yet in force, so nothing is superseded
			}
			each(step, next)
		}
	}
}

func pairOldSet(p *pairs) []located {
	var out []located
	p.superseded(func(step, next pairing.Step) {
		old := step.Certificate
		for _, m := range p.members(old.SHA256) {
			if m.SHA256 != old.SHA256 || p.behind[m.File()] {
				continue
			}
			f := found("pair.old-set", old.SHA256.String(), old.Brief.Label,
				"The certificate of %s in %s was superseded on %s by the one in %s.",
				old.Brief.Label, called(m), next.Certificate.NotBefore.UTC().Format("2006-01-02"), next.Paths[0])
			f.Evidence.Certificate, f.Evidence.NotBefore, f.Evidence.NotAfter = &old.SHA256, &old.NotBefore,
				&old.NotAfter
			f.Evidence.Paths = slices.Concat(first(next.Paths), first(step.Keys))
			out = append(out, p.of(m, f))
		}
	})
	return out
}

// first are as many paths as the evidence of one finding among thousands needs.
func first(paths []string) []string { return paths[:min(len(paths), 20)] }

func pairKeyReused(p *pairs) []located {
	var out []located
	p.superseded(func(step, next pairing.Step) {
		if next.SPKI != step.SPKI {
			return
		}
		c := next.Certificate
		f := found("pair.key-reused", c.SHA256.String(), c.Brief.Label,
			"The certificate of %s has the same key as the one before it, in %s.",
			c.Brief.Label, firstFew(step.Paths))
		f.Evidence.Certificate = &c.SHA256
		out = append(out, p.of(c, f))
	})
	return append(out, requestsOnOneKey(p)...)
}

// requestsOnOneKey tells of requests that are not the same and have one key: it was made for an earlier one.
func requestsOnOneKey(p *pairs) []located {
	var out []located
	requests := map[pki.Fingerprint][]pairing.Member{}
	for _, m := range p.result.Members() {
		if m.Kind == facts.Request && !m.Match().IsZero() {
			requests[m.Match()] = append(requests[m.Match()], m)
		}
	}
	for _, group := range requests {
		told := map[pki.Fingerprint]bool{}
		for _, r := range group {
			at := slices.IndexFunc(group, func(x pairing.Member) bool { return x.SHA256 != r.SHA256 })
			if at < 0 || told[r.SHA256] {
				continue
			}
			told[r.SHA256] = true
			f := found("pair.key-reused", r.SHA256.String(), r.Brief.Label,
				"The certificate request (CSR) of %s has the same key as another request, in %s.", r.Brief.Label,
				group[at].Path)
			f.Evidence.Paths = []string{group[at].Path}
			out = append(out, p.of(r, f))
		}
	}
	return out
}
