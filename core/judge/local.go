package judge

import (
	"slices"

	"nurvik/core/chain"
	"nurvik/core/facts"
	"nurvik/core/pki"
)

// learnLists finds out what the lists at hand say of the chains. Only a
// revocation counts: that a list on disk does not name a certificate proves
// little. One that has expired still says what was revoked by then.
func learnLists(c *Context, bundles []*bundle) {
	if len(c.Lists) == 0 {
		return
	}
	for _, b := range bundles {
		if !slices.ContainsFunc(append([]*pki.Certificate{b.leaf}, b.given...),
			func(x *pki.Certificate) bool { return len(c.Lists[x.Issuer.Key()]) > 0 }) {
			continue
		}
		path := b.assess().path.Certificates
		for i, x := range path[:len(path)-1] {
			if r, found := listed(c, b, x, path[i+1]); found {
				c.local = append(c.local, r)
				if c.revoked == nil {
					c.revoked = map[pki.Fingerprint]string{}
				}
				c.revoked[r.Certificate] = revokedWords(r)
			}
		}
	}
}

// listed looks a certificate up in the newest list of its issuer that can be used.
func listed(c *Context, b *bundle, x, issuer *pki.Certificate) (r facts.Revocation, revoked bool) {
	lists := c.Lists[x.Issuer.Key()]
	all := make([]*pki.RevocationList, len(lists))
	for i, list := range lists {
		all[i] = list.RevocationList
	}
	for i, list := range lists {
		if list.ThisUpdate.After(c.At) {
			continue
		}
		lookup := chain.Lists{Verifier: c.Verifier, Lists: all[i:], Given: b.pool, Known: c.Known, Store: c.anchors(),
			At: c.At, Stale: true, Budget: c.budget}
		listing := lookup.Of(x, issuer)
		switch {
		case listing.Revoked != nil && !listing.Revoked.At.After(c.At):
			return facts.Revocation{Certificate: x.Fingerprint(), Source: facts.FromList, Places: []string{list.Path},
				At: c.At, Status: facts.RevocationRevoked, RevokedAt: &listing.Revoked.At,
				Reason: listing.Revoked.Reason.Words()}, true
		case listing.Determined:
			return r, false
		}
	}
	return r, false
}
