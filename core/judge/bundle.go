package judge

import (
	"cmp"
	"slices"

	"nurvik/core/chain"
	"nurvik/core/facts"
	"nurvik/core/naming"
	"nurvik/core/pki"
	"nurvik/core/trust"
)

// bundle is one chain under judgement: as served by one address, or as it is
// in a file. What the checks ask of it is found out once, when it is made, so
// that no check depends on another.
type bundle struct {
	context    *Context
	file       bool
	unordered  bool   // the file gives its certificates no order
	damaged    bool   // something in the file could not be read, perhaps just what the path lacks
	clients    string // who get it, where not everyone does
	host       string
	asked      bool // about revocation
	before13   bool // the address accepts versions before TLS 1.3
	possession facts.Possession
	staple     []byte   // the OCSP response that came along
	timestamps [][]byte // of the handshake (RFC 6962)
	records    *facts.DNS
	renewal    *facts.Renewal
	given      []*pki.Certificate
	pool       *chain.Pool // of what was given, by name
	leaf       *pki.Certificate
	names      []naming.Reference

	assessed        assessment
	assembled       []assembled      // all paths into each store
	cause           cause            // why there is no valid path from what was given
	below, namesake *pki.Certificate // the one with the right name and the wrong key in its issuer's place
	missing         bool             // the issuer's certificate can be had from where the chain says
	rehearsal       chain.Path       // to an anchor for rehearsal, where there is none to another
	refusing        []*trust.Store   // audiences without a valid path, where another store has one
	undecided       string           // an audience for which the search was given up
	audiencesGaveUp chain.Bound
	roots           map[pki.Fingerprint]bool
	ownSigned       map[pki.Fingerprint]bool // what certifies itself, of the best path
	// certificates of the right name and the wrong key, beside or in the place of the right one
	siblings map[pki.Fingerprint]bool
	beside   []*pki.Certificate // of those, the ones that are beside it
	surplus  []*pki.Certificate // that have issued none of the others
}

// cause is the one reason that is told for a chain without a valid path.
type cause int

const (
	pathValid    cause = iota // from what was given
	pathUnasked               // not judged: the file is damaged
	pathSibling               // another key under the name of the issuer
	pathLacking               // valid once certificates that are known are added
	pathGaveUp                // the search was ended
	pathFailing               // an anchor is there, and something on the way is wrong
	pathNoAnchor              // no anchor
)

// assessment is the result of looking for a path in the stores.
type assessment struct {
	path     chain.Path  // the best there is
	store    string      // that accepts it, "" for none
	borrowed bool        // valid only with certificates that were not given
	gaveUp   chain.Bound // why a better path may have been missed; "" where none was
}

// assembled is what a trust store makes of a chain, with the paths themselves.
type assembled struct {
	store    *trust.Store
	required bool
	paths    []chain.Path
	gaveUp   chain.Bound
}

// assess looks for a valid path, first from what was given, then with what is known.
func (b *bundle) assess() assessment {
	var best assessment
	var gaveUp, alone chain.Bound
	for _, known := range []*chain.Pool{nil, b.context.Known} {
		for _, store := range b.context.stores() {
			path, stopped := b.search(store.Earnest(), known)
			gaveUp = cmp.Or(gaveUp, stopped)
			a := assessment{path: path, borrowed: path.Borrowed > 0}
			if path.Valid() {
				a.store = store.Name
			}
			if len(best.path.Certificates) == 0 || preferred(a, best) {
				best = a
			}
		}
		if best.path.Valid() {
			break
		}
		alone = cmp.Or(alone, gaveUp)
	}
	if len(best.path.Certificates) == 0 { // no store at all
		best.path, gaveUp = b.search(trust.New("", nil), b.context.Known)
	}
	if !best.path.Valid() {
		best.gaveUp = gaveUp
	} else if best.borrowed { // what was given alone may be enough all the same
		best.gaveUp = alone
	}
	return best
}

func (b *bundle) search(store *trust.Store, known *chain.Pool) (chain.Path, chain.Bound) {
	return b.context.Verifier.Search(b.query(store, known))
}

func (b *bundle) query(store *trust.Store, known *chain.Pool) chain.Query {
	return chain.Query{Leaf: b.leaf, Given: b.pool, Known: known, Store: store, At: b.context.At, Usage: b.usage(),
		Revoked: b.context.revoked, Distrusted: b.context.Distrust, Budget: b.context.budget}
}

// usage is what the whole path must allow. Files hold certificates for other uses too: those are for servers that must
// cover a name, say so themselves, or have host names and no usages.
func (b *bundle) usage() pki.OID {
	stated := b.leaf.HasExtKeyUsage
	switch {
	case !b.file:
		return pki.UsageServerAuth
	case b.context.Purpose != "":
		return purposes[b.context.Purpose]
	case len(b.names) > 0, stated && slices.Contains(b.leaf.ExtKeyUsage, pki.UsageServerAuth),
		!stated && len(b.leaf.HostNames()) > 0:
		return pki.UsageServerAuth
	}
	return ""
}

// preferred orders assessments from different stores.
func preferred(a, b assessment) bool {
	switch {
	case a.path.Valid() != b.path.Valid():
		return a.path.Valid()
	case a.path.Valid():
		return a.path.OutOfDate < b.path.OutOfDate
	case (a.path.Anchor != nil) != (b.path.Anchor != nil):
		return a.path.Anchor != nil
	}
	return len(a.path.Certificates) > len(b.path.Certificates)
}

// assemble finds all paths into every store that is an alternative or must accept.
func (b *bundle) assemble() []assembled {
	var out []assembled
	for _, store := range slices.Concat(b.context.Audiences, b.context.stores()) {
		if slices.ContainsFunc(out, func(a assembled) bool { return a.store == store }) {
			continue
		}
		// Rehearsal anchors are shown as what they are, and never make a chain trusted.
		paths, gaveUp := b.context.Verifier.Paths(b.query(store, b.context.Known))
		dead := func(p chain.Path) bool { return p.Anchor == nil && p.Borrowed > 0 }
		if worth := slices.DeleteFunc(slices.Clone(paths), dead); len(worth) > 0 {
			paths = worth // dead ends over certificates that nobody gave are of no interest
		}
		out = append(out, assembled{store, slices.Contains(b.context.Audiences, store), paths, gaveUp})
	}
	return out
}

// issuerKnown reports whether any certificate known here certifies this one, by name and signature.
func (b *bundle) issuerKnown(c *pki.Certificate) bool {
	v, budget := b.context.Verifier, b.context.budget
	if v.Certifies(budget, b.pool, c) || v.Certifies(budget, b.context.Known, c) {
		return true
	}
	return slices.ContainsFunc(b.context.anchors().Named(c.Issuer.Key()), func(a trust.Anchor) bool {
		return v.CheckWithin(budget, c, a.Certificate.PublicKey) == nil
	})
}

func (b *bundle) selfSigned(c *pki.Certificate) bool {
	return b.context.Verifier.SelfSignedWithin(b.context.budget, c)
}

func (b *bundle) holds(c *pki.Certificate) bool {
	return slices.ContainsFunc(b.given, func(g *pki.Certificate) bool { return g.Fingerprint() == c.Fingerprint() })
}
