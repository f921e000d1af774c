package judge

import (
	"nurvik/core/chain"
	"nurvik/core/pki"
	"strings"
)

// pathFailures tells the failures of the best path to an anchor that have a
// code here. Where something could not be computed, that is the only one.
func pathFailures(b *bundle, codes map[chain.Reason][2]string) []Finding {
	if b.cause != pathFailing {
		return nil
	}
	var out []Finding
	for _, f := range b.assessed.path.Failures {
		if code, mine := codes[f.Reason]; mine && (f.Reason == chain.Unverifiable || !unverifiable(b)) {
			x := aboutCertificate(code[0], f.Certificate, code[1], f.Certificate.Label(), f.Detail)
			x.Evidence.Algorithm = f.Certificate.SignatureAlgorithm.Name
			out = append(out, x)
			if f.Reason == chain.Unverifiable {
				break
			}
		}
	}
	return out
}

func unverifiable(b *bundle) bool {
	for _, f := range b.assessed.path.Failures {
		if f.Reason == chain.Unverifiable {
			return true
		}
	}
	return false
}

// endEvidence is what a finding about a chain without an anchor rests on.
func endEvidence(b *bundle, top *pki.Certificate) Evidence {
	return Evidence{Issuer: top.Issuer.String(), Certificate: fingerprint(b.leaf), Store: storeNames(b)}
}

// storeNames are the trust stores of which one would have been enough.
func storeNames(b *bundle) string {
	var names []string
	for _, s := range b.context.stores() {
		names = append(names, s.Name)
	}
	return "the trust store " + strings.Join(names, " or ")
}
