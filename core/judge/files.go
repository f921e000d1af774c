package judge

import (
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"nurvik/core/chain"
	"nurvik/core/facts"
	"nurvik/core/pairing"
	"nurvik/core/pki"
	"nurvik/core/plain"
)

// File judges what a file holds, by itself. A file of CAs alone has no chain to
// judge; only the form of its certificates is looked at.
func File(file facts.File, context Context) Judgement {
	context.ready()
	return judged(&file, &context)
}

// judged judges one file of many. Material alone changes nothing of the
// context, so that it is shared: a copy for each of 100,000 files is what the
// collector of garbage would be busy with.
func judged(file *facts.File, shared *Context) (j Judgement) {
	if shared.over() {
		return Judgement{Target: file.Path, Kind: "file"}
	}
	if d := shared.Report.Do(file.Path, func() { j = judgedAlone(file, shared) }); d != nil {
		j = NotJudged(file.Path, "file", shared.basis(file.Schema), d)
	}
	plain.CleanLines(&j)
	return j
}

func judgedAlone(file *facts.File, shared *Context) Judgement {
	j := Judgement{Target: file.Path, Kind: "file", Basis: shared.basis(file.Schema), Chains: []Chain{},
		Certificates: []pki.Description{}}
	if shared.Material {
		j.settle(shared, ofFile(open(file, shared)))
		return j
	}
	context := *shared
	context.begin()
	context.learn(file.Fetched, file.Revocation, revokedWords)
	m, seen := open(file, &context), newPool(&context)
	findings, bundles := ofFile(m), bundlesOf(m)
	learnLists(&context, bundles)
	for i, b := range bundles {
		if context.budget.Bound() != "" && i > 0 {
			findings = append(findings, gaveUpOn(bundles[i:]))
			break
		}
		bundles[i] = nil // of many chains one at a time is in memory
		b.examine()
		findings = append(findings, ofChain(b)...)
		if !context.Bare {
			j.draw(b, "", seen)
		}
	}
	if !context.Bare {
		seen.add(m.certificates...)
	}
	j.settle(&context, findings)
	j.Certificates = seen.list
	return j
}

func (j *Judgement) settle(context *Context, findings []Finding) {
	j.Findings = merge(settled(&context.Policy, context.At, j.Target, findings))
	j.Verdict = verdictOf(j.Findings)
}

// bundlesOf are the chains of a file: one for each leaf, with the authorities in
// the file.
func bundlesOf(m *material) []*bundle {
	given, context := m.certificates, m.context
	all := leaves(given)
	if len(all) == 0 && context.Heap {
		all = lowest(given)
	}
	isLeaf := map[pki.Fingerprint]bool{}
	for _, leaf := range all {
		isLeaf[leaf.Fingerprint()] = true
	}
	authorities := chain.NewPool(slices.DeleteFunc(slices.Clone(given),
		func(c *pki.Certificate) bool { return isLeaf[c.Fingerprint()] }))
	damaged, unordered := len(all) > 0 && m.damaged(), m.unordered()
	own := func(*pki.Certificate) []*pki.Certificate { return given }
	if len(all) > 1 {
		own = newKin(given, isLeaf).of
	}
	var out []*bundle
	for _, leaf := range all {
		out = append(out, &bundle{context: context, file: true, damaged: damaged, asked: m.file.RevocationAsked,
			unordered: unordered, given: own(leaf), pool: authorities, leaf: leaf, names: context.Names})
	}
	return out
}

// leaves are the certificates that are no CAs and have issued none of the others, each once.
func leaves(given []*pki.Certificate) []*pki.Certificate {
	return slices.DeleteFunc(lowest(given), func(c *pki.Certificate) bool { return c.IsCA() && !servesItself(c) })
}

// Leaves are the certificates of a file that are for servers: no CAs, and issuers of none of the others, each once.
func Leaves(f *facts.File) []*pki.Certificate {
	var given []*pki.Certificate
	for i := range f.Items {
		if f.Items[i].Kind != facts.Certificate {
			continue
		}
		if c, err := pki.ParseCertificate(f.Items[i].DER); err == nil {
			given = append(given, c)
		}
	}
	return leaves(given)
}

// LeavesAmong are the same among certificates that were given together.
func LeavesAmong(given []*pki.Certificate) []*pki.Certificate { return leaves(given) }

// servesItself reports whether a certificate that calls itself a CA is a server's
// all the same: it is signed by itself and has host names, as one that somebody
// made in a hurry.
func servesItself(c *pki.Certificate) bool { return c.SelfIssued() && len(c.HostNames()) > 0 }

// lowest are the certificates that have issued none of the others, each once.
func lowest(given []*pki.Certificate) []*pki.Certificate {
	var out []*pki.Certificate
	issued, seen := issuers(given), map[pki.Fingerprint]bool{}
	for _, c := range given {
		if !issued[c.Subject.Key()] && !seen[c.Fingerprint()] {
			seen[c.Fingerprint()] = true
			out = append(out, c)
		}
	}
	return out
}

// issuers are the names of those that issued one of the certificates.
func issuers(given []*pki.Certificate) map[string]bool {
	out := map[string]bool{}
	for _, c := range given {
		if !c.SelfIssued() {
			out[c.Issuer.Key()] = true
		}
	}
	return out
}

// Files judges files by themselves and together, on all processors: the
// judgements are in the order of the files.
func Files(files []facts.File, context Context) ([]Judgement, *pairing.Result) {
	context.ready()
	var result *pairing.Result
	together := map[int][]Finding{} // by file
	keep := func(list []located) {
		for i := range list {
			together[list[i].file] = append(together[list[i].file], list[i].Finding)
		}
	}
	var group sync.WaitGroup
	group.Go(func() {
		d := context.Report.Do("pairs", func() {
			result = pairing.Pair(files, context.Memory, context.At)
			ofFiles(newPairs(files, result, &context), keep)
		})
		if d != nil && len(files) > 0 { // which file it was about nobody knows; it is told once
			result = &pairing.Result{}
			clear(together)
			keep([]located{{file: 0, Finding: notCompared(files[0].Path, d)}})
		}
	})
	judgements := make([]Judgement, len(files))
	InParallel(len(files), func(i int) { judgements[i] = judged(&files[i], &context) })
	group.Wait()
	for i, extra := range together {
		j := &judgements[i]
		j.Findings = merge(append(j.Findings, settled(&context.Policy, context.At, j.Target, extra)...))
		j.Verdict = verdictOf(j.Findings)
		plain.CleanLines(&j.Findings)
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
