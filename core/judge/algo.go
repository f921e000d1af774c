package judge

import (
	"slices"

	"nurvik/core/chain"
)

// algoUnverifiable tells of a signature on the best path that cannot be computed here.
func algoUnverifiable(b *bundle) []Finding {
	return pathFailures(b, map[chain.Reason][2]string{chain.Unverifiable: {"algo.unverifiable",
		"The signature of %s cannot be checked here: %s."}})
}

// algoWeakSignature looks at the hash of every signature below the anchor.
func algoWeakSignature(b *bundle) []Finding {
	hashes := b.context.Policy.Hashes
	var out []Finding
	for _, c := range b.assessed.path.Below() {
		hash := c.SignatureAlgorithm.HashName()
		fault := slices.Contains(hashes.Fault, hash)
		if !fault && !slices.Contains(hashes.Risk, hash) || b.ownSigned[c.Fingerprint()] {
			continue
		}
		f := aboutCertificate("algo.weak-signature", c, "The signature of %s uses %s.", c.Label(),
			c.SignatureAlgorithm.Name)
		f.Severity = Risk
		if fault {
			f.Severity = Fault
		}
		f.Evidence.Algorithm = c.SignatureAlgorithm.Name
		out = append(out, f)
	}
	return out
}
