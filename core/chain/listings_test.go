package chain_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"nurvik/core/chain"
	"nurvik/core/forge"
	"nurvik/core/pki"
)

// Extensions of lists, in hexadecimal.
func number(n byte) string         { return extension("551d14", false, tlv(2, []byte{n})) }
func addsTo(n byte) string         { return extension("551d1b", true, tlv(2, []byte{n})) }
func keyID(id byte) string         { return extension("551d23", false, tlv(0x30, tlv(0x80, []byte{id}))) }
func scope(parts ...[]byte) string { return extension("551d1c", true, tlv(0x30, parts...)) }

var (
	onlyUsers       = tlv(0x81, []byte{0xff})
	onlyAuthorities = tlv(0x82, []byte{0xff})
	indirect        = tlv(0x84, []byte{0xff})
	onlyAttributes  = tlv(0x85, []byte{0xff})
)

func someReasons(bits byte) []byte { return tlv(0x83, []byte{0, bits}) }

// TestDeltas: RFC 5280, 6.3.3 c and 5.2.4.
func TestDeltas(t *testing.T) {
	root := authority(t, nil, forge.Template{Name: "Root"})
	other := authority(t, nil, forge.Template{Name: "Other"})
	c, rootC := leaf(t, root, nil), parse(t, root.DER)
	base := roll{extensions: number(5)}
	held := roll{extensions: number(5), revoked: true, reason: 6}
	const past = "170d3236313132353131303030305a" // an hour before now
	old := func(r roll) roll { r.next, r.from = past, now.Add(-2*time.Hour); return r }
	tests := []struct {
		name        string
		base, delta roll
		by          *forge.Authority
		revoked     bool
		stale       bool // for the lists that have not expired
	}{
		{"revoked since", base, roll{revoked: true, extensions: number(6) + addsTo(5)}, root, true, false},
		{"based on an older one", base, roll{revoked: true, extensions: number(6) + addsTo(4)}, root, true, false},
		{"based on a newer one", base, roll{revoked: true, extensions: number(7) + addsTo(6)}, root, false, false},
		{"no newer than the base", base, roll{revoked: true, extensions: number(5) + addsTo(5)}, root, false, false},
		{"without a number", base, roll{revoked: true, extensions: addsTo(5)}, root, false, false},
		{"for a base without a number", roll{}, roll{revoked: true, extensions: number(6) + addsTo(5)}, root, false,
			false},
		{"of another key", base, roll{revoked: true, extensions: number(6) + addsTo(5) + keyID(9)}, root, false, false},
		{"of the same key", roll{extensions: number(5) + keyID(9)},
			roll{revoked: true, extensions: number(6) + addsTo(5) + keyID(9)}, root, true, false},
		{"of another scope", base, roll{revoked: true, extensions: number(6) + addsTo(5) + scope(onlyUsers)}, root,
			false, false},
		{"of the same scope", roll{extensions: number(5) + scope(onlyUsers)},
			roll{revoked: true, extensions: number(6) + addsTo(5) + scope(onlyUsers)}, root, true, false},
		{"of another issuer", base, roll{revoked: true, extensions: number(6) + addsTo(5)}, other, false, false},
		{"held, and let go", held, roll{revoked: true, reason: 8, extensions: number(6) + addsTo(5)}, root, false,
			false},
		{"held, and still", held, roll{extensions: number(6) + addsTo(5)}, root, true, false},
		{"an expired one", base, old(roll{revoked: true, extensions: number(6) + addsTo(5)}), root, false, true},
	}
	for _, tt := range tests {
		lists := chain.Lists{Verifier: new(chain.Verifier), Store: store(rootC), At: now,
			Lists: []*pki.RevocationList{tt.delta.sign(t, tt.by, c), tt.base.sign(t, root, c)}}
		l := lists.Of(c, rootC)
		assert.True(t, l.Determined, "%s: %v", tt.name, l.Problems)
		assert.Equal(t, tt.revoked, l.Revoked != nil, tt.name)
		assert.Equal(t, tt.stale, l.IsStale, tt.name)
		lists.Lists = lists.Lists[:1]
		assert.False(t, lists.Of(c, rootC).Determined, "%s: without its base", tt.name)
	}
	t.Run("an expired one beside an expired base", func(t *testing.T) {
		earlier := old(roll{extensions: number(5)})
		later := old(roll{extensions: number(6) + addsTo(5), revoked: true})
		lists := chain.Lists{Verifier: new(chain.Verifier), Store: store(rootC), At: now,
			Lists: []*pki.RevocationList{earlier.sign(t, root, c), later.sign(t, root, c)}}
		l := lists.Of(c, rootC)
		assert.False(t, l.Determined)
		assert.True(t, l.IsStale)
		lists.Stale = true
		l = lists.Of(c, rootC)
		assert.NotNil(t, l.Revoked, "what is revoked once stays so")
		assert.True(t, l.Expires.Before(now), "and it is told that the list is old")
	})
}

// TestScopes: which lists speak about a certificate, and about which reasons (RFC 5280, 6.3.3 b and d).
func TestScopes(t *testing.T) {
	root := authority(t, nil, forge.Template{Name: "Root"})
	rootC := parse(t, root.DER)
	user, ca := leaf(t, root, nil), parse(t, authority(t, root, forge.Template{Name: "Lower"}).DER)
	const early = 0x60 // keyCompromise and cACompromise
	tests := []struct {
		name     string
		about    *pki.Certificate
		lists    []roll
		decided  bool
		revoking bool
	}{
		{"every reason", user, []roll{{}}, true, false},
		{"users, for a user", user, []roll{{extensions: scope(onlyUsers)}}, true, false},
		{"users, for a CA", ca, []roll{{extensions: scope(onlyUsers)}}, false, false},
		{"CAs, for a user", user, []roll{{extensions: scope(onlyAuthorities)}}, false, false},
		{"CAs, for a CA", ca, []roll{{extensions: scope(onlyAuthorities)}}, true, false},
		{"attribute certificates", user, []roll{{extensions: scope(onlyAttributes)}}, false, false},
		{"some reasons", user, []roll{{extensions: scope(someReasons(early))}}, false, false},
		{"some reasons, and it is revoked for one", user,
			[]roll{{extensions: scope(someReasons(early)), revoked: true, reason: 1}}, true, true},
		{"all reasons in two lists", user, []roll{{extensions: scope(someReasons(early))},
			{extensions: scope(tlv(0x83, []byte{7, 0x1f, 0x80}))}}, true, false},
		{"the last reason is missing", user, []roll{{extensions: scope(someReasons(early))},
			{extensions: scope(tlv(0x83, []byte{0, 0x1f}))}}, false, false},
		{"the first is missing", user, []roll{{extensions: scope(someReasons(0x20))},
			{extensions: scope(tlv(0x83, []byte{7, 0x1f, 0x80}))}}, false, false},
	}
	for _, tt := range tests {
		l := chain.Lists{Verifier: new(chain.Verifier), Store: store(rootC), At: now}
		for _, r := range tt.lists {
			l.Lists = append(l.Lists, r.sign(t, root, tt.about))
		}
		got := l.Of(tt.about, rootC)
		assert.Equal(t, tt.decided, got.Determined, "%s: %v", tt.name, got.Problems)
		assert.Equal(t, tt.revoking, got.Revoked != nil, tt.name)
	}
}

// TestIndirectLists: one issuer may publish for another, if both say so (RFC 5280, 5.2.5 and 4.2.1.13).
func TestIndirectLists(t *testing.T) {
	root := authority(t, nil, forge.Template{Name: "Root"})
	lister := authority(t, root, forge.Template{Name: "Lister"})
	rootC, listerC := parse(t, root.DER), parse(t, lister.DER)
	naming := func(name *pki.Certificate) *pki.Certificate { // a leaf whose point names who publishes
		point := tlv(0x30, tlv(0xa2, tlv(0xa4, name.Subject.Raw)))
		return leaf(t, root, func(w *forge.Template) {
			w.Unlisted = true
			w.Extra = []forge.Extension{{ID: []int{2, 5, 29, 31}, Value: tlv(0x30, point)}}
		})
	}
	plain := leaf(t, root, func(w *forge.Template) { w.Unlisted = true })
	named, misnamed := naming(listerC), naming(parse(t, authority(t, nil, forge.Template{Name: "Nobody"}).DER))
	tests := []struct {
		name    string
		about   *pki.Certificate
		list    roll
		decided bool
		revoked bool
	}{
		{"it is not in it", named, roll{extensions: scope(indirect)}, true, false},
		{"it is in it, by its issuer", named, roll{extensions: scope(indirect), revoked: true,
			issuer: rootC.Subject.Raw},
			true, true},
		{"another's with that number is in it", named, roll{extensions: scope(indirect), revoked: true}, true, false},
		{"the list does not say that it is indirect", named, roll{}, false, false},
		{"the list has a scope that does not say so", named, roll{extensions: scope(onlyUsers)}, false, false},
		{"the certificate names another publisher", misnamed, roll{extensions: scope(indirect)}, false, false},
		{"the certificate names none", plain, roll{extensions: scope(indirect)}, false, false},
	}
	for _, tt := range tests {
		l := chain.Lists{Verifier: new(chain.Verifier), Store: store(rootC), At: now, Known: pool(listerC),
			Lists: []*pki.RevocationList{tt.list.sign(t, lister, tt.about), roll{}.sign(t, root, listerC)}}
		if tt.about != plain {
			l.Lists[1] = roll{extensions: scope(onlyAuthorities)}.sign(t, root, listerC) // of the publisher alone
		} else {
			l.Lists = l.Lists[:1]
		}
		got := l.Of(tt.about, rootC)
		assert.Equal(t, tt.decided, got.Determined, "%s: %v", tt.name, got.Problems)
		assert.Equal(t, tt.revoked, got.Revoked != nil, tt.name)
		if tt.decided {
			l.Lists[1] = roll{extensions: scope(onlyAuthorities), revoked: true}.sign(t, root, listerC)
			assert.False(t, l.Of(tt.about, rootC).Determined, "%s: and the publisher is revoked", tt.name)
		}
	}
}

// TestWhoSignsLists: usages, circles, and parameters from above.
func TestWhoSignsLists(t *testing.T) {
	root := authority(t, nil, forge.Template{Name: "Root"})
	rootC := parse(t, root.DER)
	c := leaf(t, root, nil)
	usage := func(bits byte) func(*forge.Template) {
		return func(w *forge.Template) {
			w.Swap = []forge.Extension{{ID: []int{2, 5, 29, 15}, Critical: true, Value: []byte{3, 2, 1, bits}}}
		}
	}
	signer := func(change func(*forge.Template)) *forge.Authority { // of the root's name, with a key of its own
		w := forge.Template{Name: "Root"}
		change(&w)
		return authority(t, root, w)
	}
	tests := []struct {
		name string
		by   *forge.Authority
		good bool
	}{
		{"the issuer itself", root, true},
		{"one who may sign lists", signer(usage(0x02)), true},
		{"one who may not", signer(usage(0x04)), false},
		{"one below another", authority(t, authority(t, nil, forge.Template{Name: "Other"}),
			forge.Template{Name: "Root"}),
			false},
	}
	for _, tt := range tests {
		by := parse(t, tt.by.DER)
		l := chain.Lists{Verifier: new(chain.Verifier), Store: store(rootC), Known: pool(by), At: now,
			Lists: []*pki.RevocationList{roll{}.sign(t, tt.by, c)}}
		got := l.Of(c, rootC)
		assert.Equal(t, tt.good, got.Good(), "%s: %v", tt.name, got.Problems)
		assert.Equal(t, tt.good, len(got.Problems) == 0, tt.name)
		assert.False(t, got.BadSignature, tt.name)
	}
}

// TestListsOfAnIssuerAtHand: the certificate that certifies is known, whether a pool holds it or not.
func TestListsOfAnIssuerAtHand(t *testing.T) {
	root := authority(t, nil, forge.Template{Name: "Root"})
	lower := authority(t, root, forge.Template{Name: "Lower"})
	c, lowerC, rootC := leaf(t, lower, nil), parse(t, lower.DER), parse(t, root.DER)
	lists := chain.Lists{Verifier: new(chain.Verifier), Store: store(rootC), At: now,
		Lists: []*pki.RevocationList{roll{}.sign(t, lower, c)}}
	assert.True(t, lists.Of(c, lowerC).Good())
	stranger := leaf(t, authority(t, nil, forge.Template{Name: "Stranger"}), nil)
	l := lists.Of(stranger, lowerC) // of another name than that list's
	assert.False(t, l.Determined)
}

// TestExpiredSigners: an anchor is trusted by itself, and whoever is below one only while nothing on the way is
// expired.
func TestExpiredSigners(t *testing.T) {
	past := func(w forge.Template) forge.Template {
		w.From, w.Until = now.AddDate(-2, 0, 0), now.AddDate(0, 0, -1)
		return w
	}
	usage := []forge.Extension{{ID: []int{2, 5, 29, 15}, Critical: true, Value: []byte{3, 2, 1, 2}}}
	for _, tt := range []struct {
		name         string
		root, signer forge.Template
		by           func(root, signer *forge.Authority) *forge.Authority
		good         bool
	}{
		{"an expired anchor", past(forge.Template{Name: "Root"}), forge.Template{Name: "Root"},
			func(root, _ *forge.Authority) *forge.Authority { return root }, true},
		{"a signer of its own", forge.Template{Name: "Root"}, forge.Template{Name: "Root", Swap: usage},
			func(_, signer *forge.Authority) *forge.Authority { return signer }, true},
		{"one that has expired", forge.Template{Name: "Root"}, past(forge.Template{Name: "Root", Swap: usage}),
			func(_, signer *forge.Authority) *forge.Authority { return signer }, false},
	} {
		root := authority(t, nil, tt.root)
		signer := authority(t, root, tt.signer)
		c, rootC := leaf(t, root, nil), parse(t, root.DER)
		l := chain.Lists{Verifier: new(chain.Verifier), Store: store(rootC), Known: pool(parse(t, signer.DER)), At: now,
			Lists: []*pki.RevocationList{roll{}.sign(t, tt.by(root, signer), c)}}.Of(c, rootC)
		assert.Equal(t, tt.good, l.Good(), "%s: %v", tt.name, l.Problems)
	}
}

// TestWhichListCounts: the newest first, and what it says of all reasons is not asked of older ones.
func TestWhichListCounts(t *testing.T) {
	root := authority(t, nil, forge.Template{Name: "Root"})
	c, rootC := leaf(t, root, nil), parse(t, root.DER)
	of := func(rolls ...roll) chain.Listing {
		l := chain.Lists{Verifier: new(chain.Verifier), Store: store(rootC), At: now}
		for _, r := range rolls {
			l.Lists = append(l.Lists, r.sign(t, root, c))
		}
		return l.Of(c, rootC)
	}
	assert.True(t, of(roll{revoked: true, from: now.Add(-2 * time.Hour)}, roll{}).Good(), "taken back since")
	assert.NotNil(t, of(roll{from: now.Add(-2 * time.Hour)}, roll{revoked: true}).Revoked)

	damaged := roll{entries: "3003020101", revoked: true} // an entry without a date comes first
	l := of(damaged)
	assert.NotNil(t, l.Revoked, "that it is revoked is known all the same")
	assert.True(t, l.Determined)
	damaged.extensions = extension("550000", true, []byte{5, 0})
	l = of(damaged)
	assert.Nil(t, l.Revoked, "nobody knows what the critical extension makes of the entries")
	assert.False(t, l.Determined)

	l = of(roll{from: now.Add(time.Hour)})
	assert.True(t, l.IsStale, "a list out of the future is none of now")
	assert.False(t, l.BadSignature)
	other := authority(t, nil, forge.Template{Name: "Root"})
	l = chain.Lists{Verifier: new(chain.Verifier), Store: store(rootC), At: now,
		Lists: []*pki.RevocationList{roll{}.sign(t, other, c)}}.Of(c, rootC)
	assert.True(t, l.BadSignature)
	assert.Len(t, l.Problems, 1)
}

// TestPointsWithoutAName: a distribution point that names nothing but the issuer of its lists is named by that one.
func TestPointsWithoutAName(t *testing.T) {
	root := authority(t, nil, forge.Template{Name: "Root"})
	lists := authority(t, root, forge.Template{Name: "Lists"})
	rootC, listsC := parse(t, root.DER), parse(t, lists.DER)
	named := func(c *pki.Certificate) []byte { return tlv(0xa4, c.Subject.Raw) }
	c := leaf(t, root, func(w *forge.Template) {
		w.Unlisted = true
		w.Extra = append(w.Extra, forge.Extension{ID: []int{2, 5, 29, 31},
			Value: tlv(0x30, tlv(0x30, tlv(0xa2, named(listsC))))})
	})
	for _, tt := range []struct {
		name  string
		scope []byte
		good  bool
	}{
		{"the lists' issuer", named(listsC), true},
		{"somebody else", named(rootC), false},
	} {
		l := chain.Lists{Verifier: new(chain.Verifier), Store: store(rootC), Known: pool(listsC), At: now,
			Lists: []*pki.RevocationList{roll{extensions: scope(tlv(0xa0, tlv(0xa0, tt.scope)), indirect)}.sign(t,
				lists,
				c), roll{extensions: scope(onlyAuthorities)}.sign(t, root, c)}}.Of(c, rootC)
		assert.Equal(t, tt.good, l.Determined, "%s: %v", tt.name, l.Problems)
	}
}
