package judge

import (
	"nurvik/core/chain"
	"nurvik/core/pki"
)

// examine finds out what the checks ask.
func (b *bundle) examine() {
	b.assessed, b.assembled = b.assess(), b.assemble()
	check := b.checker()
	b.roots, b.ownSigned = map[pki.Fingerprint]bool{}, map[pki.Fingerprint]bool{}
	for _, c := range b.given {
		if c.IsCA() && c.SelfIssued() && check(c, c) == nil {
			b.roots[c.Fingerprint()] = true
		}
	}
	for _, c := range b.assessed.path.Below() {
		b.ownSigned[c.Fingerprint()] = b.selfSigned(c)
	}
	b.cause = b.causeOf()
	b.searchOthers()
	if bound := b.context.budget.Bound(); bound != "" && b.cause != pathValid && b.cause != pathUnasked {
		b.cause, b.assessed.gaveUp = pathGaveUp, bound
	}
	if b.cause == pathGaveUp { // whatever path was met, a better one may have been missed
		b.assessed.path = chain.Path{Certificates: []*pki.Certificate{b.leaf}}
		b.ownSigned[b.leaf.Fingerprint()] = b.leaf.SelfIssued() // of which nothing is told then
	}
	b.findSiblings(check)
	b.findSurplus(check)
}

func (b *bundle) causeOf() cause {
	a := b.assessed
	if a.store != "" && !a.borrowed {
		return pathValid
	}
	if b.damaged {
		return pathUnasked
	}
	if a.gaveUp != "" {
		return pathGaveUp
	}
	b.below, b.namesake = b.misplaced()
	switch {
	case b.namesake != nil:
		return pathSibling
	case a.store != "":
		return pathLacking
	case a.path.Anchor != nil:
		return pathFailing
	}
	return pathNoAnchor
}

// searchOthers looks for paths in stores that only matter for some outcomes: those for rehearsal where no other is
// known, and each audience where the chain is accepted at all.
func (b *bundle) searchOthers() {
	switch b.cause {
	case pathNoAnchor:
		var ended chain.Bound
		if b.rehearsal, ended = b.search(b.context.rehearsal(), b.context.Known); b.rehearsal.Valid() {
			ended = ""
		}
		b.missing = b.missingIssuer()
		if ended != "" {
			b.cause, b.assessed.gaveUp = pathGaveUp, ended
		}
	case pathValid:
		for _, store := range b.context.Audiences {
			path, ended := b.search(store.Earnest(), nil)
			switch {
			case path.Valid():
			case ended != "":
				b.undecided, b.audiencesGaveUp = store.Name, ended
			default:
				b.refusing = append(b.refusing, store)
			}
		}
	}
}

// end is the last certificate on the way up.
func end(b *bundle) *pki.Certificate {
	certificates := b.assessed.path.Certificates
	return certificates[len(certificates)-1]
}

// missingIssuer reports whether a chain without an anchor ends at a certificate
// that says where its issuer's can be had, and no certificate known here is that.
func (b *bundle) missingIssuer() bool {
	top := end(b)
	return !b.ownSigned[b.leaf.Fingerprint()] && !b.rehearsal.Valid() && !top.SelfIssued() &&
		len(top.URLs(pki.AccessCAIssuers)) > 0 && !b.issuerKnown(top)
}
