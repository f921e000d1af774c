package judge

import (
	"fmt"
	"math/big"
	"slices"
	"sync"
	"time"

	"nurvik/core/chain"
	"nurvik/core/facts"
	"nurvik/core/naming"
	"nurvik/core/pki"
	"nurvik/core/policy"
	"nurvik/core/trust"
)

// Context is what facts are judged by. It is read only and may be shared.
type Context struct {
	Policy    policy.Policy
	Names     []naming.Reference // that must be covered; for endpoints, none means the endpoint's own
	Trust     []*trust.Store     // alternatives: one valid path is enough
	Audiences []*trust.Store     // each must accept
	Anchors   *trust.Store       // every anchor known, of all stores; nil for those above only
	Known     *chain.Pool        // certificates that may be borrowed to complete a path
	Verifier  *chain.Verifier    // remembers signatures from target to target; nil for none
	At        time.Time
	Heap      bool                         // a file is one heap: without a leaf the lowest authorities are judged
	Bundles   bool                         // carry the right bundle even where nothing is to be repaired
	Distrust  map[pki.Fingerprint]bool     // certificates or keys that are not to be trusted, for asking what if
	Material  bool                         // judge files as material only: form, keys and pairs, no chains
	Shared    map[pki.Fingerprint]*big.Int // prime factors that keys share with others, by PublicKey.Match

	revocation []facts.Revocation         // of the target under judgement
	revoked    map[pki.Fingerprint]string // what is revoked as of At

	weak      *sync.Map           // weaknesses of RSA keys, by PublicKey.Match
	anchors   func() *trust.Store // every anchor known
	rehearsal func() *trust.Store // those for rehearsal
}

// ready fills in what may be left out, and prepares what only some findings need.
func (c *Context) ready() {
	if c.Verifier == nil {
		c.Verifier = &chain.Verifier{}
	}
	if c.weak != nil { // a copy of one that is ready
		return
	}
	c.weak = &sync.Map{}
	all := slices.Concat(c.Trust, c.Audiences)
	if c.Anchors != nil {
		all = append(all, c.Anchors)
	}
	c.anchors = sync.OnceValue(func() *trust.Store { return trust.Merge("all", all...) })
	c.rehearsal = sync.OnceValue(func() *trust.Store { return c.anchors().OfKind(trust.Rehearsal) })
}

// stores are the alternatives: the audiences themselves where nothing else is named.
func (c Context) stores() []*trust.Store {
	if len(c.Trust) > 0 {
		return c.Trust
	}
	return c.Audiences
}

// bundle is one chain under judgement: as served by one address, or as it
// stands in a file. The checks read it and each adds what it finds.
type bundle struct {
	context   *Context
	file      bool
	target    string // as the endpoint is called
	host      string
	asked     bool // about revocation
	given     []*pki.Certificate
	pool      *chain.Pool // of what was given, by name
	leaf      *pki.Certificate
	names     []naming.Reference
	versions  map[string]facts.Acceptance // for endpoints
	records   *facts.DNS
	assessed  assessment
	assembled []assembled              // all paths into each store
	sibling   map[pki.Fingerprint]bool // certificates of the right name and the wrong key
	checks    int                      // signature checks spent beside the path
	findings  []Finding
}

func (b *bundle) add(f Finding) { b.findings = append(b.findings, f) }

// assessment is the result of looking for a path in the stores.
type assessment struct {
	path     chain.Path // the best there is
	store    string     // that accepts it, "" for none
	borrowed bool       // valid only with certificates that were not given
	gaveUp   bool
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
	usage := pki.UsageServerAuth
	if b.file { // files hold certificates for other uses too
		usage = ""
	}
	return chain.Query{Leaf: b.leaf, Given: b.pool, Known: known, Store: store, At: b.context.At, Usage: usage, Revoked: b.context.revoked, Distrusted: b.context.Distrust}
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

// day writes a time as reports do.
func day(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 MST") }

// span writes a duration in the unit that people think in.
func span(d time.Duration) string {
	switch {
	case d < 0:
		return span(-d)
	case d < time.Hour:
		return plural(int(d/time.Minute), "minute")
	case d < 48*time.Hour:
		return plural(int(d/time.Hour), "hour")
	}
	return plural(int(d/(24*time.Hour)), "day")
}

func plural(n int, unit string) string {
	if n == 1 {
		return "1 " + unit
	}
	return fmt.Sprintf("%d %ss", n, unit)
}
