package judge

import (
	"fmt"
	"slices"
	"time"

	"nurvik/core/lifetime"
	"nurvik/core/pki"
	"nurvik/core/trust"
)

// checkTime looks at every certificate of the best path; the windows before
// expiry are the leaf's alone.
func checkTime(b *bundle) {
	at, path := b.context.At, b.assessed.path
	for _, c := range path.Below() {
		id := c.Fingerprint().String()
		left := lifetime.Left(c, at)
		var f Finding
		switch state := lifetime.StateAt(c, at, b.context.Policy.Time.Windows()); {
		case state == lifetime.Expired:
			f = found("time.expired", id, c.Label(), "%s expired on %s, %s ago.", c.Label(), day(c.NotAfter), span(left))
		case state == lifetime.NotYetValid:
			f = found("time.not-yet-valid", id, c.Label(), "%s is valid only from %s, in %s.", c.Label(), day(c.NotBefore), span(c.NotBefore.Sub(at)))
		case state == lifetime.ExpiresSoon && c == b.leaf:
			f = found("time.expires-soon", id, c.Label(), "%s expires on %s, in %s.", c.Label(), day(c.NotAfter), span(left))
		case state == lifetime.RenewalDue && c == b.leaf:
			f = found("time.renewal-due", id, c.Label(), "%s has %s left of %s.", c.Label(), span(left), span(lifetime.Span(c)))
		default:
			continue
		}
		f.Evidence = certificateEvidence(c)
		b.add(f)
	}
	if anchor := path.Anchor; path.Valid() && lifetime.StateAt(anchor.Certificate, at, lifetime.Windows{}) == lifetime.Expired {
		c := anchor.Certificate
		f := found("trust.anchor-expired", c.Fingerprint().String(), c.Label(), "The anchor %q expired on %s, and no other path is valid.", c.Label(), day(c.NotAfter))
		f.Evidence = certificateEvidence(c)
		b.add(f)
	}
}

// checkLifetime compares the whole life of the leaf with what the policy allows,
// and with the public issuers' rules where the path ends in a public anchor.
func checkLifetime(b *bundle) {
	lives, path := b.context.Policy.Lifetimes, b.assessed.path
	if b.leaf.NotBefore.IsZero() || b.leaf.NotAfter.IsZero() || b.leaf.IsCA() {
		return
	}
	add := func(days int, words string) {
		if lifetime.Span(b.leaf) <= time.Duration(days)*24*time.Hour {
			return
		}
		f := found("time.too-long", b.leaf.Fingerprint().String(), b.leaf.Label(), "%s lives for %s; %s.", b.leaf.Label(), span(lifetime.Span(b.leaf)), words)
		f.Evidence = certificateEvidence(b.leaf)
		b.add(f)
	}
	if lives.MostDays > 0 {
		add(lives.MostDays, fmt.Sprintf("the policy allows %s", plural(lives.MostDays, "day")))
		return
	}
	if days := lives.PublicDays(b.leaf.NotBefore); days > 0 && path.Anchor != nil && path.Anchor.Kind == trust.Public {
		add(days, fmt.Sprintf("public issuers may give %s to certificates that were issued on %s", plural(days, "day"), b.leaf.NotBefore.UTC().Format(time.DateOnly)))
	}
}

// checkNames compares the names that are needed with the leaf.
func checkNames(b *bundle) {
	for _, name := range b.names {
		if _, ok := name.CoveredBy(b.leaf); ok {
			continue
		}
		covered := b.leaf.HostNames()
		f := found("name.uncovered", name.String(), name.String(), "The certificate does not cover %s; %s.", name, coverage(covered))
		f.Evidence = Evidence{Certificate: fingerprint(b.leaf), Names: covered}
		b.add(f)
	}
}

// coverage says what a certificate covers, in bounded words.
func coverage(names []string) string {
	const most = 4
	switch {
	case len(names) == 0:
		return "it lists no name at all"
	case len(names) > most:
		return "it covers " + join(names[:most]) + " and " + plural(len(names)-most, "other")
	}
	return "it covers " + join(names)
}

func join(names []string) string {
	out := ""
	for i, n := range names {
		if i > 0 {
			out += ", "
		}
		out += n
	}
	return out
}

// checkKeys examines the keys of the path below the anchor.
func checkKeys(b *bundle) {
	for _, c := range b.assessed.path.Below() {
		for _, f := range keyFindings(c.PublicKey, c.Label, b.context) {
			f.Evidence.Certificate = fingerprint(c)
			b.add(f)
		}
	}
}

// checkSignatures looks at the hash of every signature below the anchor.
func checkSignatures(b *bundle) {
	hashes := b.context.Policy.Hashes
	for _, c := range b.assessed.path.Below() {
		hash := c.SignatureAlgorithm.HashName()
		fault := slices.Contains(hashes.Fault, hash)
		if !fault && !slices.Contains(hashes.Risk, hash) || b.context.Verifier.SelfSigned(c) {
			continue
		}
		f := found("algo.weak-signature", c.Fingerprint().String(), c.Label(), "The signature of %s uses %s.", c.Label(), c.SignatureAlgorithm.Name)
		if fault {
			f.Severity = Fault
		}
		f.Evidence = certificateEvidence(c)
		f.Evidence.Algorithm = c.SignatureAlgorithm.Name
		b.add(f)
	}
}

// checkForm reports certificates that were read past a defect.
func checkForm(b *bundle) {
	for _, c := range b.given {
		if len(c.Anomalies) > 0 {
			b.add(malformed(c))
		}
	}
}

func malformed(c *pki.Certificate) Finding {
	first := c.Anomalies[0]
	f := found("file.malformed-certificate", c.Fingerprint().String(), c.Label(), "%s departs from the standard: %s (byte %d, %s).", c.Label(), first.Text, first.Offset, first.Field)
	if more := len(c.Anomalies) - 1; more > 0 {
		f.Message += " And " + plural(more, "other defect") + "."
	}
	f.Evidence = Evidence{Certificate: fingerprint(c), Issuer: c.Issuer.String(), Serial: c.SerialHex(), Anomalies: c.Anomalies}
	return f
}
