package judge

import (
	"nurvik/core/chain"
	"nurvik/core/lifetime"
	"nurvik/core/pki"
)

// unknownAnchorCode is of chains that end at an issuer that nobody knows.
const unknownAnchorCode = "trust.unknown-anchor"

// trustNoAnchor chooses among the codes for a chain that ends without a
// trusted anchor. At most one is told; chain.incomplete is one of them.
func trustNoAnchor(b *bundle) []Finding {
	if b.cause != pathNoAnchor {
		return nil
	}
	if b.missing {
		return nil
	}
	leaf, id, top := b.leaf, b.leaf.Fingerprint().String(), end(b)
	var f Finding
	if b.ownSigned[leaf.Fingerprint()] {
		f = found("trust.self-signed", id, leaf.Label(),
			"%s is self-signed; no client trusts it without being told to.", leaf.Label())
	} else if b.rehearsal.Valid() {
		f = found("trust.rehearsal-issuer", id, leaf.Label(), "%s was issued below %q, which is for rehearsal only.",
			leaf.Label(), b.rehearsal.Anchor.Certificate.Label())
	} else {
		f = found(unknownAnchorCode, id, leaf.Label(),
			"The chain of %s ends at the issuer %q, which is not in %s; an intermediate or the root may be missing.",
			leaf.Label(), top.Issuer.Label(), storeNames(b))
	}
	f.Evidence = endEvidence(b, top)
	return []Finding{f}
}

// trustPathFailures tells what an issuer on the best path does not allow.
func trustPathFailures(b *bundle) []Finding {
	return pathFailures(b, map[chain.Reason][2]string{
		chain.NameNotAllowed:   {"trust.name-constraint", "%s is not allowed by its issuer's name constraints: %s."},
		chain.UsageNotAllowed:  {"trust.usage", "%s is not meant for this use: %s."},
		chain.PolicyNotAllowed: {"trust.policy", "%s is valid under no certificate policy that the path requires: %s."},
	})
}

// trustAudienceSplit looks for a path in each declared audience, where the
// endpoint is accepted at all.
func trustAudienceSplit(b *bundle) []Finding {
	var out []Finding
	for _, store := range b.refusing {
		f := found("trust.audience-split", store.Name, store.Name,
			"The audience %q has no valid path for %s, issued by %q, while %q accepts it.",
			store.Name, b.leaf.Label(), b.leaf.Issuer.Label(), b.assessed.store)
		f.Evidence = Evidence{Certificate: fingerprint(b.leaf), Issuer: b.leaf.Issuer.String(), Store: store.Name}
		out = append(out, f)
	}
	return out
}

// trustAnchorExpired looks at the anchors: that of the best path, and those of
// other paths beside one that is in date.
func trustAnchorExpired(b *bundle) []Finding {
	best := b.assessed.path
	over := func(p chain.Path) bool {
		return p.Valid() && lifetime.StateAt(p.Anchor.Certificate, b.context.At, lifetime.Windows{}) == lifetime.Expired
	}
	if over(best) {
		c := best.Anchor.Certificate
		return []Finding{aboutCertificate("trust.anchor-expired", c,
			"The root %q %s, and no other path is valid.", c.Label(), expired(c))}
	}
	if !best.Valid() || best.OutOfDate > 0 {
		return nil
	}
	var out []Finding
	told := map[pki.Fingerprint]bool{}
	for _, a := range b.assembled {
		for _, p := range a.paths {
			if p.Borrowed > 0 || !over(p) || told[p.Anchor.Certificate.Fingerprint()] {
				continue
			}
			c := p.Anchor.Certificate
			told[c.Fingerprint()] = true
			f := aboutCertificate("trust.anchor-expired", c, "The root %q in %q %s; another path is valid.",
				c.Label(), a.store.Name, expired(c))
			f.Severity = Note
			out = append(out, f)
		}
	}
	return out
}

// trustTimestamps tells of an endpoint below a root that the distribution ships
// whose certificate no log has promised to publish: browsers refuse it.
func trustTimestamps(b *bundle) []Finding {
	anchor := b.assessed.path.Anchor
	if b.file || anchor == nil || !anchor.Shipped || len(timestampsOf(b)) > 0 {
		return nil
	}
	return []Finding{aboutCertificate("trust.timestamps-missing", b.leaf, "The certificate of %s comes without signed "+
		"certificate timestamps (SCT), which browsers require below the root %s.", b.leaf.Label(),
		anchor.Certificate.Label())}
}
