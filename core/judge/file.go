package judge

import (
	"slices"

	"nurvik/core/chain"
	"nurvik/core/facts"
	"nurvik/core/pki"
)

// fileChecks are run on each leaf of a file, with everything in the file as its chain.
var fileChecks = []func(*bundle){checkSibling, checkOrder, checkRoot, checkSurplus, checkAlternates, checkOutlived, checkLength, checkAudiences, checkRevocation, checkTime, checkLifetime, checkNames, checkKeys, checkSignatures}

// File judges what a file holds, by itself. A file of authorities alone has no
// chain to judge; only the form of its certificates is looked at.
func File(file facts.File, context Context) Judgement {
	context.ready()
	if context.Material {
		return materialOf(&file, &context)
	}
	j := Judgement{Target: file.Path, Kind: "file", Chains: []Chain{}}
	material := examine(&file, &context)
	findings, given, pool := material.findings, material.certificates, newPool()
	context.learn(file.Fetched, file.Revocation)
	for _, b := range fileBundles(given, &context) {
		b.asked = file.RevocationAsked
		b.assessed, b.assembled = b.assess(), b.assemble()
		if !material.damaged { // what is damaged may be just what the path lacks
			checkPath(b)
		}
		for _, check := range fileChecks {
			check(b)
		}
		findings = append(findings, b.findings...)
		j.draw(b, "", pool)
	}
	pool.add(given...)
	j.Findings = merge(context.settle(j.Target, findings))
	j.Verdict = verdictOf(j.Findings)
	j.Certificates = pool.descriptions()
	return j
}

// materialOf judges a file as material only. It changes nothing of the file and
// the context, so that many files can share them: copies of both for each of
// 100,000 files are what the collector of garbage would be busy with.
func materialOf(file *facts.File, context *Context) Judgement {
	j := Judgement{Target: file.Path, Kind: "file", Chains: []Chain{}, Certificates: []pki.Description{}}
	j.Findings = merge(context.settle(j.Target, examine(file, context).findings))
	j.Verdict = verdictOf(j.Findings)
	return j
}

// fileBundles are the chains of a file: one for each leaf, with everything in
// the file. The other leaves are chains of their own.
func fileBundles(given []*pki.Certificate, context *Context) []*bundle {
	all := leaves(given)
	if len(all) == 0 && context.Heap {
		all = lowest(given)
	}
	isLeaf := map[*pki.Certificate]bool{}
	for _, leaf := range all {
		isLeaf[leaf] = true
	}
	authorities := chain.NewPool(slices.DeleteFunc(slices.Clone(given), func(c *pki.Certificate) bool { return isLeaf[c] }))
	var out []*bundle
	for _, leaf := range all {
		own := slices.DeleteFunc(slices.Clone(given), func(c *pki.Certificate) bool { return c != leaf && isLeaf[c] })
		out = append(out, &bundle{context: context, file: true, given: own, pool: authorities, leaf: leaf, names: context.Names})
	}
	return out
}

// leaves are the certificates that are no authorities and have issued none of the others.
func leaves(given []*pki.Certificate) []*pki.Certificate {
	var out []*pki.Certificate
	issued := map[string]bool{}
	for _, c := range given {
		if !c.SelfIssued() {
			issued[c.Issuer.Key()] = true
		}
	}
	for _, c := range given {
		if !c.IsCA() && !issued[c.Subject.Key()] {
			out = append(out, c)
		}
	}
	return out
}

// lowest are the certificates that have issued none of the others.
func lowest(given []*pki.Certificate) []*pki.Certificate {
	issued := map[string]bool{}
	for _, c := range given {
		if !c.SelfIssued() {
			issued[c.Issuer.Key()] = true
		}
	}
	seen := map[pki.Fingerprint]bool{}
	var out []*pki.Certificate
	for _, c := range given {
		if !issued[c.Subject.Key()] && !seen[c.Fingerprint()] {
			seen[c.Fingerprint()] = true
			out = append(out, c)
		}
	}
	return out
}
