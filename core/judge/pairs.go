package judge

import (
	"fmt"
	"path/filepath"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"nurvik/core/facts"
	"nurvik/core/pairing"
	"nurvik/core/pki"
)

// Pairs judges which of the files' material belongs together. The findings
// stand beside the index of the file that each is about.
func Pairs(files []facts.File, result *pairing.Result, context Context) map[int][]Finding {
	p := &pairs{files: files, result: result, context: context, findings: map[int][]Finding{}, told: map[pki.Fingerprint]bool{}, behind: map[int]bool{}}
	p.sets()
	p.groups()
	p.leftOver()
	p.successions()
	return p.findings
}

type pairs struct {
	files    []facts.File
	result   *pairing.Result
	context  Context
	findings map[int][]Finding
	told     map[pki.Fingerprint]bool             // keys whose pairing a mismatch tells already
	byID     map[pki.Fingerprint][]pairing.Member // of keys and certificates; made when it is needed
	behind   map[int]bool                         // files whose keystore differs from what lies beside it
}

func (p *pairs) add(m pairing.Member, f Finding) {
	f.Evidence.Line, f.Evidence.Key = m.Line, m.KeyText
	p.findings[m.File()] = append(p.findings[m.File()], f)
}

// name is what people call a member: its path and, in a keystore, its alias.
func name(m pairing.Member) string {
	if m.Alias != "" {
		return fmt.Sprintf("%s (%s)", m.Path, m.Alias)
	}
	return m.Path
}

// sets judges what names and directories put together.
func (p *pairs) sets() {
	for _, s := range p.result.Sets() {
		key, certificate, mismatch := s.Mismatch()
		if mismatch {
			for _, m := range slices.Concat(s.Keys, s.Certificates) {
				p.told[m.Match] = true
			}
			f := found("pair.key-mismatch", filepath.Base(certificate.Path), filepath.Base(certificate.Path),
				"The key in %s does not belong to the certificate of %s in %s.", filepath.Base(key.Path), certificate.Brief.Label, filepath.Base(certificate.Path))
			if fits := p.holders(certificate.Match, facts.PrivateKey); len(fits) > 0 {
				f.Message += " The key of the certificate is in " + fits[0] + "."
				f.Evidence.Paths = fits
			}
			if fits := p.holders(key.Match, facts.Certificate); len(fits) > 0 {
				f.Message += " The key belongs to the certificate in " + fits[0] + "."
				f.Evidence.Paths = append(f.Evidence.Paths, fits...)
			}
			f.Evidence.Certificate = &certificate.SHA256
			p.add(*key, f)
		}
		if store, file, disagree := s.Disagreement(); disagree && !(mismatch && p.agreesWithOne(s)) {
			what := "key"
			if store.Kind == facts.Certificate {
				what = "certificate"
			}
			f := found("pair.stores-disagree", filepath.Base(file.Path), filepath.Base(file.Path),
				"The %s keystore holds another %s (%s) than %s beside it.", store.Container, what, described(*store), filepath.Base(file.Path))
			f.Evidence.Paths = []string{file.Path}
			p.behind[store.File()] = true
			p.add(*store, f)
		}
	}
}

func described(m pairing.Member) string {
	if m.Kind == facts.Certificate {
		return fmt.Sprintf("%s, issued on %s", m.Brief.Label, m.NotBefore.UTC().Format("2006-01-02"))
	}
	return m.KeyText
}

// agreesWithOne reports whether the keystore has the key of the key file or of the certificate file.
func (p *pairs) agreesWithOne(s pairing.Set) bool {
	others := slices.Concat(s.Keys, s.Certificates)
	return slices.ContainsFunc(s.Stores, func(entry *pairing.Member) bool {
		return slices.ContainsFunc(others, func(m *pairing.Member) bool { return m.Match == entry.Match })
	})
}

// holders are the files that hold material of the kind with the key.
func (p *pairs) holders(match pki.Fingerprint, kind facts.ItemKind) []string {
	var out []string
	for _, m := range p.members(match) {
		if m.Kind == kind && !slices.Contains(out, m.Path) {
			out = append(out, m.Path)
		}
	}
	return out
}

// members are those with the key, or, of certificates, with the fingerprint.
func (p *pairs) members(id pki.Fingerprint) []pairing.Member {
	if p.byID == nil {
		p.byID = map[pki.Fingerprint][]pairing.Member{}
		for _, m := range p.result.Members() {
			p.byID[m.Match] = append(p.byID[m.Match], m)
			if m.Kind == facts.Certificate {
				p.byID[m.SHA256] = append(p.byID[m.SHA256], m)
			}
		}
	}
	return p.byID[id]
}

// groups judges copies of keys and requests without certificate.
func (p *pairs) groups() {
	byKey := map[pki.Fingerprint][]pairing.Member{}
	var order []pki.Fingerprint
	for _, m := range p.result.Members() {
		if m.Kind == facts.PrivateKey && m.Comparable() {
			if byKey[m.Match] == nil {
				order = append(order, m.Match)
			}
			byKey[m.Match] = append(byKey[m.Match], m)
		}
	}
	for _, match := range order {
		p.copies(byKey[match])
	}
	for _, g := range p.result.Groups {
		if len(g.Certificates) == 0 {
			for _, q := range g.Requests {
				p.waiting(*q)
			}
		}
	}
}

func (p *pairs) waiting(q pairing.Member) {
	f := found("pair.request-waiting", q.SHA256.String(), q.Brief.Label, "The request of %s waits for its certificate: none has its key.", q.Brief.Label)
	f.Evidence.Names = q.Names
	p.add(q, f)
}

// copies judges the files that hold one private key.
func (p *pairs) copies(members []pairing.Member) {
	type inode struct{ device, number uint64 }
	seen, paths := map[inode]bool{}, []string{}
	listed := ""
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
	if len(paths) < 2 {
		return
	}
	slices.Sort(paths)
	owner := members[slices.IndexFunc(members, func(m pairing.Member) bool { return m.Path == paths[0] })]
	f := found("pair.duplicate", owner.Match.String(), filepath.Base(owner.Path), "The private key lies in %s more: %s.", plural(len(paths)-1, "file"), coverageOf(paths[1:]))
	if listed != "" {
		f.Severity = Risk
		f.Message += " Others can read the directory " + listed + "."
	}
	f.Evidence.Paths = paths
	p.add(owner, f)
}

// first are as many paths as an evidence of one finding among thousands needs.
func first(paths []string) []string { return paths[:min(len(paths), 20)] }

// coverageOf lists paths in bounded words.
func coverageOf(paths []string) string {
	const most = 4
	if len(paths) > most {
		return join(paths[:most]) + " and " + plural(len(paths)-most, "other")
	}
	return join(paths)
}

// leftOver judges what belongs to nothing.
func (p *pairs) leftOver() {
	for _, m := range p.result.Unpaired {
		if !m.Comparable() || p.told[m.Match] {
			continue
		}
		switch m.Kind {
		case facts.PrivateKey:
			p.add(m, found("pair.no-certificate", m.Match.String(), filepath.Base(m.Path), "No certificate and no request has the key (%s) in %s.", m.KeyText, name(m)))
		case facts.Request:
			p.waiting(m)
		case facts.Certificate:
			if beside, uncertain := p.result.Beside(m); beside && !uncertain {
				f := found("pair.no-key", m.SHA256.String(), m.Brief.Label, "The private key of %s is not among the keys that lie here.", m.Brief.Label)
				f.Evidence.Certificate = &m.SHA256
				p.add(m, f)
			}
		}
	}
}

// successions judges old sets and keys that were used again.
func (p *pairs) successions() {
	for _, s := range p.result.Successions {
		for i, step := range s.Steps[:len(s.Steps)-1] {
			next := s.Steps[i+1]
			if next.Certificate.NotBefore.After(p.context.At) {
				break // not yet in force, so nothing is superseded
			}
			old := step.Certificate
			for _, m := range p.members(old.SHA256) {
				if m.SHA256 != old.SHA256 || p.behind[m.File()] {
					continue
				}
				f := found("pair.old-set", old.SHA256.String(), old.Brief.Label, "The certificate of %s in %s was superseded on %s by the one in %s.",
					old.Brief.Label, name(m), next.Certificate.NotBefore.UTC().Format("2006-01-02"), next.Paths[0])
				f.Evidence.Certificate, f.Evidence.NotBefore, f.Evidence.NotAfter = &old.SHA256, &old.NotBefore, &old.NotAfter
				f.Evidence.Paths = slices.Concat(first(next.Paths), first(step.Keys))
				p.add(m, f)
			}
			if next.SPKI == step.SPKI {
				f := found("pair.key-reused", next.Certificate.SHA256.String(), next.Certificate.Brief.Label, "The certificate of %s has the same key as the one before it, in %s.",
					next.Certificate.Brief.Label, coverageOf(step.Paths))
				f.Evidence.Certificate = &next.Certificate.SHA256
				p.add(next.Certificate, f)
			}
		}
	}
}

// Files judges files by themselves and together, on all processors: the
// judgements are in the order of the files.
func Files(files []facts.File, context Context) ([]Judgement, *pairing.Result) {
	context.ready()
	var result *pairing.Result
	var together map[int][]Finding
	var group sync.WaitGroup
	group.Go(func() {
		result = pairing.Pair(files, context.At)
		together = Pairs(files, result, context)
	})
	judgements := make([]Judgement, len(files))
	InParallel(len(files), func(i int) {
		if context.Material {
			judgements[i] = materialOf(&files[i], &context)
		} else {
			judgements[i] = File(files[i], context)
		}
	})
	group.Wait()
	for i, extra := range together {
		j := &judgements[i]
		j.Findings = merge(append(j.Findings, context.settle(j.Target, extra)...))
		j.Verdict = verdictOf(j.Findings)
	}
	return judgements, result
}

// InParallel runs a function for each index, on all processors.
func InParallel(count int, run func(i int)) {
	var next atomic.Int64
	var group sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		group.Go(func() {
			for i := int(next.Add(1)) - 1; i < count; i = int(next.Add(1)) - 1 {
				run(i)
			}
		})
	}
	group.Wait()
}
