package judge

import (
	"fmt"
	"slices"

	"nurvik/core/chain"
	"nurvik/core/lifetime"
	"nurvik/core/pki"
)

// chainIncomplete tells which certificates have to be added.
func chainIncomplete(b *bundle) []Finding {
	path := b.assessed.path
	if b.cause == pathNoAnchor {
		return issuerMissing(b)
	}
	if b.cause != pathLacking {
		return nil
	}
	var names, pem []string
	for _, c := range path.Below() {
		if !b.holds(c) {
			names, pem = append(names, fmt.Sprintf("%q", c.Label())), append(pem, c.PEM())
		}
	}
	f := found("chain.incomplete", b.leaf.Fingerprint().String(), b.leaf.Label(),
		"The chain of %s lacks %s; clients that do not have it stored cannot build the path.", b.leaf.Label(),
		joined(names))
	f.Evidence = Evidence{Issuer: b.leaf.Issuer.String(), Order: labels(path.Below()), MissingPEM: pem}
	f.Remedy = fmt.Sprintf("Put the certificate file together in this order: %s. The missing certificates are "+
		"included as PEM,"+
		" in the console and with -o json. Then reload the server.", inOrder(path.Below()))
	return []Finding{f}
}

// issuerMissing is for a chain whose end names an address of its issuer's certificate that nobody here knows.
func issuerMissing(b *bundle) []Finding {
	if !b.missing {
		return nil
	}
	top := end(b)
	from := top.URLs(pki.AccessCAIssuers)
	f := found("chain.incomplete", b.leaf.Fingerprint().String(), b.leaf.Label(),
		"The chain of %s ends at %s; the certificate of its issuer %q is missing.", b.leaf.Label(), top.Label(),
		top.Issuer.Label())
	f.Remedy = fmt.Sprintf("Fetch the issuer's certificate from %s, add it after the others, and reload the server.",
		from[0])
	f.Evidence = endEvidence(b, top)
	f.Evidence.CAIssuers = from
	return []Finding{f}
}

// chainPathFailures tells what is wrong on the best path to an anchor, as far as that is about the chain itself.
func chainPathFailures(b *bundle) []Finding {
	out := pathFailures(b, map[chain.Reason][2]string{
		chain.BadSignature:    {"chain.bad-signature", "The signature of %s is wrong: it was %s."},
		chain.NotAuthority:    {"chain.not-an-authority", "%s issued a certificate of this chain and is no CA: %s."},
		chain.PathLength:      {"chain.path-length", "%s has more intermediates below it than it allows: %s."},
		chain.UnknownCritical: {"chain.unknown-critical", "%s has a critical extension that cannot be processed: %s."},
	})
	for i := range out {
		if out[i].Code == "chain.unknown-critical" {
			out[i].replaces = malformedCode
		}
	}
	return out
}

func chainGaveUp(b *bundle) []Finding {
	switch {
	case b.cause == pathGaveUp:
		return []Finding{gaveUp(b.leaf, b.assessed.gaveUp, "a path from %s to a root", b.leaf.Label())}
	case b.audiencesGaveUp != "":
		return []Finding{gaveUp(b.leaf, b.audiencesGaveUp, "a path from %s to a root of the audience %q",
			b.leaf.Label(), b.undecided)}
	}
	return nil
}

// gaveUpOn is for the leaves of a file for which the budget leaves nothing.
func gaveUpOn(left []*bundle) Finding {
	first := left[0]
	bound := first.context.budget.Bound()
	if len(left) == 1 {
		return gaveUp(first.leaf, bound, "a path from %s to a root", first.leaf.Label())
	}
	return gaveUp(first.leaf, bound, "paths from %s and %s to a root", first.leaf.Label(),
		plural(len(left)-1, "other certificate"))
}

func gaveUp(leaf *pki.Certificate, bound chain.Bound, what string, args ...any) Finding {
	f := found("chain.gave-up", leaf.Fingerprint().String(), leaf.Label(), "The search for %s was given up: %s.",
		fmt.Sprintf(what, args...), boundWords(bound))
	if bound == chain.Interrupted {
		f.Remedy = "Run the audit again, and let it end."
	}
	return f
}

// boundWords say what ended a search.
func boundWords(bound chain.Bound) string {
	switch bound {
	case chain.TooManyNamesakes:
		return fmt.Sprintf("after %d candidates, for too many certificates have the same names", chain.MaxChecks)
	case chain.TooDeep:
		return fmt.Sprintf("a path would have more than %d certificates", chain.MaxPathLength)
	case chain.Interrupted:
		return "it was interrupted"
	}
	return "signatures, name constraints and policies take more work than any real chain needs"
}

// chainWrongSibling tells of certificates with the name of the issuer and
// another key: in its place, or beside it.
func chainWrongSibling(b *bundle) []Finding {
	var out []Finding
	if b.cause == pathSibling {
		out = append(out, siblingInPlace(b))
	}
	for _, s := range b.beside {
		f := aboutCertificate("chain.wrong-sibling", s,
			"The certificate %q has the name of an issuer of this chain and another key; the right one is there too.",
			s.Label())
		f.Severity = Note
		f.Remedy = fmt.Sprintf("Remove the certificate %q with the serial number %s.", s.Label(), s.SerialHex())
		out = append(out, f)
	}
	return out
}

// siblingInPlace says which certificate would fit, where one is known.
func siblingInPlace(b *bundle) Finding {
	c, sibling := b.below, b.namesake
	f := aboutCertificate("chain.wrong-sibling", sibling,
		"The certificate %q has the right name and the wrong key: it did not issue %s.", sibling.Label(), c.Label())
	f.Evidence.Key = sibling.PublicKey.String()
	right := b.assessed.path.Certificates
	if i := slices.Index(right, c); i >= 0 && i+1 < len(right) {
		fit := right[i+1]
		f.Evidence.MissingPEM = append(f.Evidence.MissingPEM, fit.PEM())
		f.Evidence.Order = labels(b.assessed.path.Below())
		f.Remedy = fmt.Sprintf("Replace it with %q with the key %s and the serial number %s (SHA-256 %s), then "+
			"reload the server."+
			" It is included as PEM, in the console and with -o json.", fit.Label(), fit.PublicKey, fit.SerialHex(),
			fit.Fingerprint())
	} else if id := c.AuthorityKeyID; len(id) > 0 {
		f.Remedy = fmt.Sprintf("Replace it with the certificate of %q with the key identifier %x, which the CA "+
			"that issued %s publishes."+
			" Then reload the server.", c.Issuer.Label(), id, c.Label())
	}
	return f
}

// chainWrongOrder compares the order given with the right one.
func chainWrongOrder(b *bundle) []Finding {
	path := b.assessed.path
	if b.assessed.gaveUp != "" || b.unordered { // the best path is not known, or there is no order
		return nil
	}
	order := chain.CompareOrder(b.given, path)
	if order.LeafFirst && order.InOrder {
		return nil
	}
	f := found("chain.wrong-order", b.leaf.Fingerprint().String(), b.leaf.Label(),
		"The leaf %s is not the first certificate, so clients take another for it.", b.leaf.Label())
	if order.LeafFirst {
		f.Message = fmt.Sprintf("The certificates after %s are not in order: each must certify the one before it.",
			b.leaf.Label())
		if !b.file && !b.before13 {
			f.Severity = Risk
		}
	}
	f.Evidence.Order = labels(path.Below())
	f.Remedy = fmt.Sprintf("Put them in this order: %s. Then reload the server.", inOrder(path.Below()))
	return []Finding{f}
}

// chainRootSent notes roots after the leaf. In a file of authorities they belong.
func chainRootSent(b *bundle) []Finding {
	var out []Finding
	for _, c := range b.given {
		// of a heap like that nothing more is said
		if b.assessed.gaveUp == "" && c.Fingerprint() != b.leaf.Fingerprint() && b.roots[c.Fingerprint()] {
			out = append(out, aboutCertificate("chain.root-sent", c,
				"The root %q is sent too; clients only trust roots in their own store.", c.Label()))
		}
	}
	return out
}

// chainDuplicate notes what an endpoint sends twice. In a file the repeated block is told, in a heap this.
func chainDuplicate(b *bundle) []Finding {
	if b.file && !b.context.Heap || b.assessed.gaveUp != "" {
		return nil
	}
	var out []Finding
	count := map[pki.Fingerprint]int{}
	for _, c := range b.given {
		if count[c.Fingerprint()]++; count[c.Fingerprint()] == 2 {
			how := "sent"
			if b.file {
				how = "given"
			}
			out = append(out, aboutCertificate("chain.duplicate", c, "The certificate %q is %s more than once.",
				c.Label(),
				how))
		}
	}
	return out
}

func chainUnrelated(b *bundle) []Finding {
	var out []Finding
	for _, c := range b.surplus {
		out = append(out, aboutCertificate("chain.unrelated", c,
			"The certificate %q has nothing to do with the others: it issued none of them.", c.Label()))
	}
	return out
}

// chainExpiredAlternate looks for expired cross-certificates beside the best path.
func chainExpiredAlternate(b *bundle) []Finding {
	best := b.assessed.path
	if !best.Valid() || best.OutOfDate > 0 {
		return nil
	}
	var out []Finding
	check := b.checker()
	for _, c := range b.given {
		if !c.IsCA() || lifetime.StateAt(c, b.context.At, lifetime.Windows{}) != lifetime.Expired ||
			slices.Contains(best.Certificates, c) {
			continue
		}
		if !slices.ContainsFunc(best.Certificates, func(on *pki.Certificate) bool {
			return on.Issuer.Key() == c.Subject.Key() && check(on, c) == nil
		}) {
			continue
		}
		f := aboutCertificate("chain.expired-alternate", c,
			"%q, issued by %q, %s; a path without it is valid, but some clients try this one first and "+
				"fail.",
			c.Label(), c.Issuer.Label(), expired(c))
		if b.file {
			f.Severity = Note
		}
		out = append(out, f)
	}
	return out
}

// chainExpiresBeforeLeaf looks for intermediates of the best path that expire before the leaf does.
func chainExpiresBeforeLeaf(b *bundle) []Finding {
	path := b.assessed.path
	if path.Anchor == nil || b.leaf.NotAfter.IsZero() {
		return nil
	}
	var out []Finding
	for _, c := range path.Below()[1:] {
		over := b.context.At.After(c.NotAfter) // told as expired
		if c.NotAfter.IsZero() || !c.NotAfter.Before(b.leaf.NotAfter) || over {
			continue
		}
		out = append(out, aboutCertificate("chain.expires-before-leaf", c,
			"The intermediate %q expires on %s, before %s, which expires on %s.", c.Label(), day(c.NotAfter),
			b.leaf.Label(), day(b.leaf.NotAfter)))
	}
	return out
}

// maxServed is how many certificates a chain may have before it is worth a
// word: chains have two to four.
const maxServed = 4

// chainTooLong notes chains that are longer than any client needs.
func chainTooLong(b *bundle) []Finding {
	path := b.assessed.path
	if !path.Valid() || len(path.Below()) <= maxServed {
		return nil
	}
	f := found("chain.too-long", b.leaf.Fingerprint().String(), b.leaf.Label(),
		"The chain of %s has %d certificates below the root; each one costs every client bytes and checks.",
		b.leaf.Label(), len(path.Below()))
	f.Evidence.Order = labels(path.Below())
	return []Finding{f}
}

// chainCodes are those about what a file lacks of a chain, which a configuration that names the rest beside it knows
// better.
var chainCodes = map[string]bool{"chain.incomplete": true}
