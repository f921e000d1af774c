package judge

import (
	"fmt"
	"strings"

	"nurvik/core/chain"
	"nurvik/core/facts"
	"nurvik/core/pki"
)

// checkPath finds why no valid path exists. At most one cause is told.
func checkPath(b *bundle) {
	a := b.assessed
	if (a.store == "" || a.borrowed) && !a.gaveUp {
		if c, sibling := b.misplaced(); sibling != nil {
			b.add(b.wrongSibling(c, sibling))
			return
		}
	}
	switch {
	case a.store != "" && !a.borrowed:
	case a.store != "":
		b.add(b.incomplete(a.path))
	case a.gaveUp:
		b.add(found("chain.gave-up", b.leaf.Fingerprint().String(), b.leaf.Label(), "The search for a path from %s to an anchor was given up after %d checks: too many certificates have the same names.", b.leaf.Label(), chain.MaxChecks))
	case a.path.Anchor != nil:
		b.pathFailures(a.path)
	default:
		b.add(b.noAnchor())
	}
}

// incomplete tells which certificates have to be added.
func (b *bundle) incomplete(path chain.Path) Finding {
	var names []string
	evidence := Evidence{Issuer: b.leaf.Issuer.String(), Order: labels(path.Below())}
	for _, c := range path.Below() {
		if !b.holds(c) {
			names = append(names, fmt.Sprintf("%q", c.Label()))
			evidence.MissingPEM = append(evidence.MissingPEM, c.PEM())
		}
	}
	f := found("chain.incomplete", b.leaf.Fingerprint().String(), b.leaf.Label(), "The chain of %s lacks %s; clients that do not have it stored cannot build the path.", b.leaf.Label(), strings.Join(names, " and "))
	f.Evidence = evidence
	f.Remedy = fmt.Sprintf("Put the certificate file together in this order: %s. The missing certificates come along as PEM, in the console and with -o json. Then reload the server.", strings.Join(labels(path.Below()), ", then "))
	return f
}

func (b *bundle) holds(c *pki.Certificate) bool {
	for _, g := range b.given {
		if g.Fingerprint() == c.Fingerprint() {
			return true
		}
	}
	return false
}

// failureCodes gives each reason of a path's failure its code.
var failureCodes = map[chain.Reason]string{
	chain.BadSignature: "chain.bad-signature", chain.NotAuthority: "chain.not-an-authority", chain.PathLength: "chain.path-length",
	chain.UnknownCritical: "chain.unknown-critical", chain.Unverifiable: "algo.unverifiable",
	chain.NameNotAllowed: "trust.name-constraint", chain.UsageNotAllowed: "trust.usage", chain.PolicyNotAllowed: "trust.policy",
	chain.IsRevoked: "revoke.revoked",
}

var failureWords = map[chain.Reason]string{
	chain.BadSignature:    "The signature of %s is wrong: it was %s.",
	chain.NotAuthority:    "%s issued a certificate of this chain and may not: %s.",
	chain.PathLength:      "%s has more intermediates below it than it allows: %s.",
	chain.UnknownCritical: "%s has a critical extension that clients do not know: %s.",
	chain.Unverifiable:    "The signature of %s cannot be checked here: %s.",

	chain.NameNotAllowed:   "%s is outside of what its issuer may certify: %s.",
	chain.UsageNotAllowed:  "%s is not meant for this use: %s.",
	chain.PolicyNotAllowed: "%s is valid under no policy that is required: %s.",

	chain.IsRevoked: "%s is revoked, %s.",
}

// pathFailures reports the failures of the best path to an anchor. Where
// nothing could be computed, that is the only one.
func (b *bundle) pathFailures(path chain.Path) {
	for _, f := range path.Failures {
		if f.Reason == chain.Unverifiable {
			b.add(pathFailure(f))
			return
		}
	}
	for _, f := range path.Failures {
		if f.Reason != chain.IsRevoked { // told by what was learnt of the certificate
			b.add(pathFailure(f))
		}
	}
}

func pathFailure(f chain.Failure) Finding {
	c := f.Certificate
	out := found(failureCodes[f.Reason], c.Fingerprint().String(), c.Label(), failureWords[f.Reason], c.Label(), f.Detail)
	out.Evidence = certificateEvidence(c)
	out.Evidence.Algorithm = c.SignatureAlgorithm.Name
	return out
}

// noAnchor chooses among the codes for a chain that ends without a trusted anchor.
func (b *bundle) noAnchor() Finding {
	leaf, id := b.leaf, b.leaf.Fingerprint().String()
	top := b.assessed.path.Certificates[len(b.assessed.path.Certificates)-1]
	var f Finding
	if b.context.Verifier.SelfSigned(leaf) {
		f = found("trust.self-signed", id, leaf.Label(), "%s certifies itself; no client trusts it without being told to.", leaf.Label())
	} else if path, _ := b.search(b.context.rehearsal(), b.context.Known); path.Valid() {
		f = found("trust.rehearsal-issuer", id, leaf.Label(), "%s was issued below %q, which is for rehearsal only.", leaf.Label(), path.Anchor.Certificate.Label())
	} else if at := top.URLs(pki.AccessCAIssuers); !top.SelfIssued() && len(at) > 0 && !b.issuerKnown(top) {
		f = found("chain.incomplete", id, leaf.Label(), "The chain of %s ends at %s; the certificate of its issuer %q is missing.", leaf.Label(), top.Label(), top.Issuer.Label())
		f.Remedy = fmt.Sprintf("Fetch the issuer's certificate from %s, add it behind the others, and reload the server.", at[0])
		f.Evidence.CAIssuers = at
	} else {
		f = found("trust.unknown-anchor", id, leaf.Label(), "The chain of %s ends at the issuer %q, which %s does not hold; an intermediate or the anchor may be missing.", leaf.Label(), top.Issuer.Label(), b.storeNames())
	}
	f.Evidence.Issuer = top.Issuer.String()
	f.Evidence.Certificate = fingerprint(leaf)
	f.Evidence.Store = b.storeNames()
	return f
}

func (b *bundle) storeNames() string {
	var names []string
	for _, s := range b.context.stores() {
		names = append(names, s.Name)
	}
	return "the trust store " + strings.Join(names, " or ")
}

// checkOrder compares the order given with the right one.
func checkOrder(b *bundle) {
	path := b.assessed.path
	if b.assessed.gaveUp { // the best path is not known, so neither is its order
		return
	}
	order := chain.CompareOrder(b.given, path)
	if order.LeafFirst && order.InOrder {
		return
	}
	var f Finding
	if !order.LeafFirst {
		f = found("chain.wrong-order", b.leaf.Fingerprint().String(), b.leaf.Label(), "The leaf %s is not the first certificate, so clients take another for it.", b.leaf.Label())
	} else {
		f = found("chain.wrong-order", b.leaf.Fingerprint().String(), b.leaf.Label(), "The certificates behind %s are not in order: each must certify the one before it.", b.leaf.Label())
		if !b.file && !b.acceptsBefore13() {
			f.Severity = Risk
		}
	}
	f.Evidence.Order = labels(path.Below())
	f.Remedy = fmt.Sprintf("Put them in this order: %s. Then reload the server.", strings.Join(labels(path.Below()), ", then "))
	b.add(f)
}

func (b *bundle) acceptsBefore13() bool {
	for version, answer := range b.versions {
		if answer == facts.Accepted && version != "TLS 1.3" {
			return true
		}
	}
	return false
}

// checkRoot notes roots behind the leaf. In a file of authorities they belong.
func checkRoot(b *bundle) {
	if b.assessed.gaveUp { // of a heap like that nothing more is said
		return
	}
	for _, c := range b.given {
		if c.Fingerprint() != b.leaf.Fingerprint() && b.isRoot(c) {
			f := found("chain.root-sent", c.Fingerprint().String(), c.Label(), "The root %q is sent along; clients take roots only from their own store.", c.Label())
			f.Evidence = certificateEvidence(c)
			b.add(f)
		}
	}
}

// checkAudiences looks for a path in each declared audience, where the
// endpoint is accepted at all.
func checkAudiences(b *bundle) {
	if b.assessed.store == "" || b.assessed.borrowed {
		return
	}
	for _, store := range b.context.Audiences {
		if path, _ := b.search(store.Earnest(), nil); path.Valid() {
			continue
		}
		f := found("trust.audience-split", store.Name, store.Name, "The audience %q has no valid path for %s, issued by %q, while %q accepts it.", store.Name, b.leaf.Label(), b.leaf.Issuer.Label(), b.assessed.store)
		f.Evidence = Evidence{Certificate: fingerprint(b.leaf), Issuer: b.leaf.Issuer.String(), Store: store.Name}
		b.add(f)
	}
}

func labels(list []*pki.Certificate) []string {
	out := make([]string, len(list))
	for i, c := range list {
		out[i] = c.Label()
	}
	return out
}

func fingerprint(c *pki.Certificate) *pki.Fingerprint {
	f := c.Fingerprint()
	return &f
}

// certificateEvidence is what identifies a certificate in a report.
func certificateEvidence(c *pki.Certificate) Evidence {
	e := Evidence{Certificate: fingerprint(c), Issuer: c.Issuer.String(), Serial: c.SerialHex()}
	if !c.NotBefore.IsZero() {
		e.NotBefore = &c.NotBefore
	}
	if !c.NotAfter.IsZero() {
		e.NotAfter = &c.NotAfter
	}
	return e
}
