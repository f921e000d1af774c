package judge

import (
	"fmt"
	"slices"

	"nurvik/core/chain"
	"nurvik/core/facts"
	"nurvik/core/pki"
)

// fileChecks are run on each leaf of a file, with everything in the file as its chain.
var fileChecks = []func(*bundle){checkOrder, checkRoot, checkAudiences, checkTime, checkNames, checkKeys, checkSignatures}

// File judges what a file holds. A file of authorities alone has no chain to
// judge; only the form of its certificates is looked at.
func File(file facts.File, context Context) Judgement {
	j := Judgement{Target: file.Path, Kind: "file", Chains: []Chain{}}
	context.ready()
	var findings []Finding
	var given []*pki.Certificate
	pool := newPool()
	for _, located := range file.Certificates {
		c, err := pki.ParseCertificate(located.DER)
		if err != nil { // facts of another version may hold what this one cannot read
			file.Damaged = append(file.Damaged, facts.Damage{Line: located.Line, Offset: located.Offset, Reason: err.Error()})
			continue
		}
		given = append(given, c)
		if len(c.Anomalies) > 0 {
			f := malformed(c)
			f.Evidence.Line, f.Evidence.Offset = located.Line, &located.Offset
			findings = append(findings, f)
		}
	}
	for i, d := range file.Damaged {
		place := fmt.Sprintf("byte %d", d.Offset)
		if d.Line > 0 {
			place = fmt.Sprintf("line %d", d.Line)
		}
		f := found("file.damaged", fmt.Sprintf("damaged block %d", i+1), place, "The certificate at %s cannot be read: %s.", place, d.Reason)
		f.Evidence.Line, f.Evidence.Offset = d.Line, &d.Offset
		findings = append(findings, f)
	}
	all := leaves(given)
	isLeaf := map[*pki.Certificate]bool{}
	for _, leaf := range all {
		isLeaf[leaf] = true
	}
	authorities := chain.NewPool(slices.DeleteFunc(slices.Clone(given), func(c *pki.Certificate) bool { return isLeaf[c] }))
	for _, leaf := range all {
		// The other leaves of the file are chains of their own.
		own := slices.DeleteFunc(slices.Clone(given), func(c *pki.Certificate) bool { return c != leaf && isLeaf[c] })
		b := bundle{context: &context, file: true, given: own, pool: authorities, leaf: leaf, names: context.Names}
		b.assessed = b.assess()
		if len(file.Damaged) == 0 { // what is damaged may be just what the path lacks
			checkPath(&b)
		}
		for _, check := range fileChecks {
			check(&b)
		}
		findings = append(findings, b.findings...)
		j.draw(&b, "", pool)
	}
	pool.add(given...)
	j.Findings = merge(findings)
	j.Verdict = verdictOf(j.Findings)
	j.Certificates = pool.descriptions()
	return j
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
