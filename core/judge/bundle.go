package judge

import (
	"errors"
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
	unordered  bool // the file gives its certificates no order
	damaged    bool // something in the file could not be read, perhaps just what the path lacks
	host       string
	asked      bool // about revocation
	before13   bool // the address accepts versions before TLS 1.3
	possession facts.Possession
	staple     []byte   // the OCSP response that came along
	timestamps [][]byte // of the handshake (RFC 6962)
	records    *facts.DNS
	given      []*pki.Certificate
	pool       *chain.Pool // of what was given, by name
	leaf       *pki.Certificate
	names      []naming.Reference

	assessed  assessment
	assembled []assembled // all paths into each store
	cause     cause       // why there is no valid path from what was given
	roots     map[pki.Fingerprint]bool
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
	path     chain.Path // the best there is
	store    string     // that accepts it, "" for none
	borrowed bool       // valid only with certificates that were not given
	gaveUp   bool
}

// assembled is what a trust store makes of a chain, with the paths themselves.
type assembled struct {
	store    *trust.Store
	required bool
	paths    []chain.Path
	gaveUp   bool
}

// examine finds out what the checks ask.
func (b *bundle) examine() {
	b.assessed, b.assembled = b.assess(), b.assemble()
	check := b.checker()
	b.roots = map[pki.Fingerprint]bool{}
	for _, c := range b.given {
		if c.IsCA() && c.SelfIssued() && check(c, c) == nil {
			b.roots[c.Fingerprint()] = true
		}
	}
	b.cause = b.causeOf()
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
	if c, _ := b.misplaced(); !a.gaveUp && c != nil {
		return pathSibling
	}
	switch {
	case a.store != "":
		return pathLacking
	case a.gaveUp:
		return pathGaveUp
	case a.path.Anchor != nil:
		return pathFailing
	}
	return pathNoAnchor
}

// assess looks for a valid path, first from what was given, then with what is known.
func (b *bundle) assess() assessment {
	var best assessment
	gaveUp := false
	for _, known := range []*chain.Pool{nil, b.context.Known} {
		for _, store := range b.context.stores() {
			path, stopped := b.search(store.Earnest(), known)
			gaveUp = gaveUp || stopped
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
	}
	if len(best.path.Certificates) == 0 { // no store at all
		best.path, gaveUp = b.search(trust.New("", nil), b.context.Known)
	}
	best.gaveUp = gaveUp && !best.path.Valid() && !b.hopeless(best.path)
	return best
}

func (b *bundle) search(store *trust.Store, known *chain.Pool) (chain.Path, bool) {
	return b.context.Verifier.Search(b.query(store, known))
}

// hopeless reports whether what is wrong with the path is the leaf's own, so
// that no other path could be better.
func (b *bundle) hopeless(path chain.Path) bool {
	return path.Anchor != nil && slices.ContainsFunc(path.Failures, func(f chain.Failure) bool {
		return f.Certificate == b.leaf && f.Reason != chain.NameNotAllowed && f.Reason != chain.PolicyNotAllowed
	})
}

func (b *bundle) query(store *trust.Store, known *chain.Pool) chain.Query {
	return chain.Query{Leaf: b.leaf, Given: b.pool, Known: known, Store: store, At: b.context.At, Usage: b.usage(),
		Revoked: b.context.revoked, Distrusted: b.context.Distrust}
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
	v := b.context.Verifier
	if v.Certifies(b.pool, c) || v.Certifies(b.context.Known, c) {
		return true
	}
	return slices.ContainsFunc(b.context.anchors().Named(c.Issuer.Key()), func(a trust.Anchor) bool {
		return v.Check(c, a.Certificate.PublicKey) == nil
	})
}

func (b *bundle) holds(c *pki.Certificate) bool {
	return slices.ContainsFunc(b.given, func(g *pki.Certificate) bool { return g.Fingerprint() == c.Fingerprint() })
}

// maxSurplusChecks bounds the signature checks that are spent on certificates
// beside the path; what is left when they are used up is passed over.
const maxSurplusChecks = 2000

var errEnough = errors.New("enough was checked")

// checker checks signatures beside the path until enough was checked.
func (b *bundle) checker() func(c, issuer *pki.Certificate) error {
	checks := 0
	return func(c, issuer *pki.Certificate) error {
		if checks++; checks > maxSurplusChecks {
			return errEnough
		}
		return b.context.Verifier.Check(c, issuer.PublicKey)
	}
}

// namesakes are the given certificates that have the name of the certificate's
// issuer and another key: no signature of theirs fits.
func (b *bundle) namesakes(c *pki.Certificate, check func(c, issuer *pki.Certificate) error) []*pki.Certificate {
	if c.SelfIssued() {
		return nil
	}
	var out []*pki.Certificate
	for _, g := range b.given {
		// With the right identifier it is the signature that is bad.
		if g != c && g.Subject.Key() == c.Issuer.Key() && !c.PointsTo(g) &&
			errors.Is(check(c, g), pki.ErrBadSignature) {
			out = append(out, g)
		}
	}
	return out
}

// misplaced finds where a namesake is in the place of the right issuer: the
// last certificate that was given on the way up, of which no given one is the issuer.
func (b *bundle) misplaced() (c, namesake *pki.Certificate) {
	path := b.assessed.path.Certificates
	check := b.checker()
	for i, on := range path {
		if i > 0 && !b.holds(on) {
			break
		}
		if i+1 < len(path) && (b.holds(path[i+1]) || b.assessed.path.Anchor != nil && i+2 == len(path)) {
			continue
		}
		if s := b.namesakes(on, check); len(s) > 0 && !b.context.Verifier.Certifies(b.pool, on) {
			return on, s[0]
		}
	}
	return nil, nil
}

// findSiblings finds namesakes beside the right certificate.
func (b *bundle) findSiblings(check func(c, issuer *pki.Certificate) error) {
	b.siblings = map[pki.Fingerprint]bool{}
	if b.assessed.gaveUp {
		return
	}
	if b.cause == pathSibling {
		_, namesake := b.misplaced()
		b.siblings[namesake.Fingerprint()] = true
	}
	path := b.assessed.path.Certificates
	// What is on the path, or issued something on it, is there under a name that two share: a root may have its
	// intermediate's.
	belongs := func(s *pki.Certificate) bool {
		return slices.ContainsFunc(path, func(c *pki.Certificate) bool {
			return c.Fingerprint() == s.Fingerprint() || c.Issuer.Key() == s.Subject.Key() && check(c, s) == nil
		})
	}
	for i, on := range path[:len(path)-1] {
		if !b.holds(path[i+1]) && (b.assessed.path.Anchor == nil || i+2 < len(path)) {
			continue
		}
		for _, s := range b.namesakes(on, check) {
			if b.siblings[s.Fingerprint()] || belongs(s) {
				continue
			}
			b.siblings[s.Fingerprint()] = true
			b.beside = append(b.beside, s)
		}
	}
}

// findSurplus finds certificates that are of no use to the leaf.
func (b *bundle) findSurplus(check func(c, issuer *pki.Certificate) error) {
	if b.assessed.gaveUp {
		return
	}
	seen, path := map[pki.Fingerprint]bool{}, map[pki.Fingerprint]bool{}
	for _, c := range b.assessed.path.Certificates {
		path[c.Fingerprint()] = true
	}
	issuesAny := func(issuer *pki.Certificate) bool {
		return slices.ContainsFunc(b.given, func(c *pki.Certificate) bool {
			return c.Fingerprint() != issuer.Fingerprint() && c.Issuer.Key() == issuer.Subject.Key() &&
				check(c, issuer) == nil
		})
	}
	for _, c := range b.given {
		id := c.Fingerprint()
		if !seen[id] && id != b.leaf.Fingerprint() && !path[id] && !b.roots[id] && !b.siblings[id] && !issuesAny(c) {
			if errors.Is(check(c, c), errEnough) {
				return
			}
			b.surplus = append(b.surplus, c)
		}
		seen[id] = true
	}
}
