package chain_test

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/chain"
	"nurvik/core/forge"
	"nurvik/core/pki"
)

func pool(list ...*pki.Certificate) *chain.Pool { return chain.NewPool(list) }

func labels(p chain.Path) []string {
	var out []string
	for _, c := range p.Certificates {
		out = append(out, c.Label())
	}
	return out
}

func TestSearch(t *testing.T) {
	root := authority(t, nil, forge.Template{Name: "Root"})
	upper := authority(t, root, forge.Template{Name: "Upper"})
	lower := authority(t, upper, forge.Template{Name: "Lower"})
	rootC, upperC, lowerC := parse(t, root.DER), parse(t, upper.DER), parse(t, lower.DER)
	good := leaf(t, lower, nil)

	t.Run("from what was given, in any order", func(t *testing.T) {
		p, ended := new(chain.Verifier).Search(chain.Query{Leaf: good, Given: pool(upperC, good, lowerC),
			Store: store(rootC), At: now})
		assert.Empty(t, ended)
		assert.True(t, p.Valid())
		assert.Equal(t, []string{"tides.tarnholm.example", "Lower", "Upper", "Root"}, labels(p))
		assert.Zero(t, p.Borrowed)
		assert.Len(t, p.Below(), 3)
	})
	t.Run("with what is known", func(t *testing.T) {
		p, _ := new(chain.Verifier).Search(chain.Query{Leaf: good, Given: pool(good),
			Known: chain.NewPool([]*pki.Certificate{lowerC, upperC}), Store: store(rootC), At: now})
		assert.True(t, p.Valid())
		assert.Equal(t, 2, p.Borrowed)
	})
	t.Run("what was given is not borrowed", func(t *testing.T) {
		p, _ := new(chain.Verifier).Search(chain.Query{Leaf: good, Given: pool(good, lowerC),
			Known: chain.NewPool([]*pki.Certificate{lowerC, upperC}), Store: store(rootC), At: now})
		assert.Equal(t, 1, p.Borrowed)
	})
	t.Run("an intermediate can be the anchor", func(t *testing.T) {
		p, _ := new(chain.Verifier).Search(chain.Query{Leaf: good, Given: pool(good, lowerC, upperC),
			Store: store(upperC), At: now})
		assert.True(t, p.Valid())
		assert.Equal(t, []string{"tides.tarnholm.example", "Lower", "Upper"}, labels(p))
	})
	t.Run("the leaf can be the anchor", func(t *testing.T) {
		self := leaf(t, nil, nil)
		p, _ := new(chain.Verifier).Search(chain.Query{Leaf: self, Store: store(self), At: now})
		assert.True(t, p.Valid())
		assert.Len(t, p.Below(), 1)
	})
	t.Run("without an anchor the longest path is kept", func(t *testing.T) {
		p, _ := new(chain.Verifier).Search(chain.Query{Leaf: good, Given: pool(good, lowerC, upperC), Store: store(),
			At: now})
		assert.Nil(t, p.Anchor)
		assert.Len(t, p.Certificates, 3)
	})
	t.Run("a sibling of the same name and another key is no issuer", func(t *testing.T) {
		sibling := parse(t, authority(t, upper, forge.Template{Name: "Lower"}).DER)
		p, _ := new(chain.Verifier).Search(chain.Query{Leaf: good, Given: pool(good, sibling, upperC),
			Store: store(rootC), At: now})
		assert.False(t, p.Valid())
		assert.Empty(t, p.Failures)
		assert.Len(t, p.Certificates, 1)
	})
	t.Run("the sibling beside the right one does no harm", func(t *testing.T) {
		sibling := parse(t, authority(t, upper, forge.Template{Name: "Lower", NoKeyIDs: true}).DER)
		p, _ := new(chain.Verifier).Search(chain.Query{Leaf: good, Given: pool(good, sibling, lowerC, upperC),
			Store: store(rootC), At: now})
		assert.True(t, p.Valid())
		assert.Same(t, lowerC, p.Certificates[1])
	})
	t.Run("the path that is in date is preferred", func(t *testing.T) {
		old, err := forge.Issue(upper, nil, forge.Template{Name: "Lower", CA: true, SPKI: lowerC.PublicKey.Raw,
			From: now.AddDate(-3, 0, 0), Until: now.AddDate(-1, 0, 0)})
		require.NoError(t, err)
		p, _ := new(chain.Verifier).Search(chain.Query{Leaf: good, Given: pool(good, parse(t, old), lowerC, upperC),
			Store: store(rootC), At: now})
		assert.Zero(t, p.OutOfDate)
		assert.Same(t, lowerC, p.Certificates[1])
	})
	t.Run("dates alone do not make a path invalid", func(t *testing.T) {
		p, _ := new(chain.Verifier).Search(chain.Query{Leaf: good, Given: pool(good, lowerC, upperC),
			Store: store(rootC), At: now.AddDate(30, 0, 0)})
		assert.True(t, p.Valid())
		assert.Equal(t, 4, p.OutOfDate)
	})
}

func TestFailures(t *testing.T) {
	root := authority(t, nil, forge.Template{Name: "Root"})
	zero := 0
	narrow := authority(t, root, forge.Template{Name: "Narrow", Length: &zero})
	branch := authority(t, narrow, forge.Template{Name: "Branch"})
	plain := authority(t, root, forge.Template{Name: "Plain"})
	unsigned := authority(t, root, forge.Template{Name: "Unsigned"})
	shopKey := newKey(t)
	shopSPKI, err := forge.PublicInfo(shopKey)
	require.NoError(t, err)
	shopDER, err := forge.Issue(root, nil, forge.Template{Name: "shop", SPKI: shopSPKI, From: now.AddDate(0, -1, 0),
		Until: now.AddDate(0, 1, 0)})
	require.NoError(t, err)
	merchant := &forge.Authority{DER: shopDER, Name: "shop", Key: shopKey, KeyID: forge.KeyID(shopSPKI),
		Sign: forge.ECDSASHA256}
	tests := []struct {
		name   string
		leaf   *pki.Certificate
		given  [][]byte
		reason chain.Reason
		about  string
	}{
		{"path length", leaf(t, branch, nil), [][]byte{branch.DER, narrow.DER}, chain.PathLength, "Narrow"},
		{"issued by a leaf", leaf(t, merchant, nil), [][]byte{shopDER}, chain.NotAuthority, "shop"},
		{"spoilt signature", leaf(t, plain, func(w *forge.Template) { w.Spoilt = true }), [][]byte{plain.DER},
			chain.BadSignature, "tides.tarnholm.example"},
		{"unknown critical extension", leaf(t, plain, func(w *forge.Template) {
			w.Extra = []forge.Extension{{ID: []int{2, 999, 5}, Critical: true, Value: []byte{5, 0}}}
		}), [][]byte{plain.DER}, chain.UnknownCritical, "tides.tarnholm.example"},
		{"algorithm that cannot be computed", leaf(t, unsigned, func(w *forge.Template) { w.Sign = &forge.Ed448 }),
			[][]byte{unsigned.DER}, chain.Unverifiable, "tides.tarnholm.example"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			given := []*pki.Certificate{tt.leaf}
			for _, der := range tt.given {
				given = append(given, parse(t, der))
			}
			p, _ := new(chain.Verifier).Search(chain.Query{Leaf: tt.leaf, Given: chain.NewPool(given),
				Store: store(parse(t, root.DER)), At: now})
			require.NotNil(t, p.Anchor, "the names lead to the anchor")
			assert.False(t, p.Valid())
			require.Len(t, p.Failures, 1)
			assert.Equal(t, tt.reason, p.Failures[0].Reason)
			assert.Equal(t, tt.about, p.Failures[0].Certificate.Label())
		})
	}
	t.Run("a path without the failure is found", func(t *testing.T) {
		// The same branch, certified by the root as well, where no limit stands in the way.
		der, err := forge.Issue(root, nil, forge.Template{Name: "Branch", CA: true,
			SPKI: parse(t, branch.DER).PublicKey.Raw, From: now.AddDate(0, -1, 0), Until: now.AddDate(1, 0, 0)})
		require.NoError(t, err)
		l := leaf(t, branch, nil)
		p, _ := new(chain.Verifier).Search(chain.Query{Leaf: l,
			Given: pool(l, parse(t, branch.DER), parse(t, narrow.DER), parse(t, der)), Store: store(parse(t, root.DER)),
			At: now})
		assert.True(t, p.Valid())
	})
}

// TestSearchIsBounded gives authorities that have all certified each other.
func TestSearchIsBounded(t *testing.T) {
	const rooms = 9
	var all []*forge.Authority
	for i := range rooms {
		all = append(all, authority(t, nil, forge.Template{Name: string(rune('A' + i))}))
	}
	l := leaf(t, all[0], nil)
	given := []*pki.Certificate{l}
	for _, subject := range all {
		for _, issuer := range all {
			if subject == issuer {
				continue
			}
			der, err := forge.Issue(issuer, nil, forge.Template{Name: subject.Name, CA: true,
				SPKI: parse(t, subject.DER).PublicKey.Raw, From: now.AddDate(-1, 0, 0), Until: now.AddDate(1, 0, 0)})
			require.NoError(t, err)
			given = append(given, parse(t, der))
		}
	}
	_, ended := new(chain.Verifier).Search(chain.Query{Leaf: l, Given: chain.NewPool(given), Store: store(), At: now})
	assert.Equal(t, chain.TooManyNamesakes, ended)
}

// TestLengthLimit: thirty certificates are a path, and of a longer one nothing is known.
func TestLengthLimit(t *testing.T) {
	root := authority(t, nil, forge.Template{Name: "Root"})
	below, given := root, []*pki.Certificate(nil)
	for i := range chain.MaxPathLength - 1 {
		below = authority(t, below, forge.Template{Name: fmt.Sprintf("Step %d", i)})
		given = append(given, parse(t, below.DER))
		l := leaf(t, below, nil)
		p, ended := new(chain.Verifier).Search(chain.Query{Leaf: l, Given: pool(given...),
			Store: store(parse(t, root.DER)),
			At:    now})
		if within := i < chain.MaxPathLength-2; within {
			require.True(t, p.Valid(), "%d intermediates", i+1)
			require.Empty(t, ended)
		} else {
			assert.False(t, p.Valid())
			assert.Equal(t, chain.TooDeep, ended)
			// Another way up, that is short enough, is still found.
			cross, err := forge.Issue(root, nil, forge.Template{Name: below.Name, CA: true,
				SPKI: parse(t, below.DER).PublicKey.Raw, From: now.AddDate(0, -1, 0), Until: now.AddDate(1, 0, 0)})
			require.NoError(t, err)
			p, _ = new(chain.Verifier).Search(chain.Query{Leaf: l, Given: pool(append(given, parse(t, cross))...),
				Store: store(parse(t, root.DER)), At: now})
			assert.True(t, p.Valid())
		}
	}
}

// TestConstraintsAboveIntermediates: the names of intermediates must be allowed too, unless they are self-issued
// (RFC 5280, 6.1.3 b and c).
func TestConstraintsAboveIntermediates(t *testing.T) {
	root := authority(t, nil, forge.Template{Name: "Root"})
	upper := authority(t, root, forge.Template{Name: "Upper"})
	excluding := func(issuer *forge.Authority, name string) *forge.Authority {
		subject := parse(t, authority(t, nil, forge.Template{Name: name}).DER).Subject.Raw
		return authority(t, issuer, forge.Template{Name: "Narrow", Extra: []forge.Extension{{ID: []int{2, 5, 29, 30},
			Critical: true, Value: tlv(0x30, tlv(0xa1, tlv(0x30, tlv(0xa4, subject))))}}})
	}
	tests := map[string]struct {
		narrow *forge.Authority
		below  string // the name of the intermediate below it
		valid  bool
	}{
		"another name":               {excluding(root, "Other"), "Lower", true},
		"the intermediate's":         {excluding(root, "Lower"), "Lower", false},
		"the intermediate's, higher": {excluding(upper, "Lower"), "Lower", false},
		"its own, self-issued":       {excluding(root, "Narrow"), "Narrow", true},
	}
	for name, tt := range tests {
		lower := authority(t, tt.narrow, forge.Template{Name: tt.below})
		l := leaf(t, lower, nil)
		p, ended := new(chain.Verifier).Search(chain.Query{Leaf: l, Store: store(parse(t, root.DER)), At: now,
			Given: pool(parse(t, lower.DER), parse(t, tt.narrow.DER), parse(t, upper.DER))})
		assert.Empty(t, ended)
		assert.Equal(t, tt.valid, p.Valid(), "%s: %v", name, p.Failures)
		if !tt.valid {
			assert.Equal(t, chain.NameNotAllowed, p.Failures[0].Reason, name)
			assert.Equal(t, "Lower", p.Failures[0].Certificate.Label(), name)
		}
	}
}

func TestRoles(t *testing.T) {
	root := authority(t, nil, forge.Template{Name: "Root"})
	lower := authority(t, root, forge.Template{Name: "Lower"})
	l := leaf(t, lower, nil)
	rootC, lowerC := parse(t, root.DER), parse(t, lower.DER)
	assert.Equal(t, chain.Root, new(chain.Verifier).RoleOf(rootC))
	assert.Equal(t, chain.Intermediate, new(chain.Verifier).RoleOf(lowerC))
	assert.Equal(t, chain.Leaf, new(chain.Verifier).RoleOf(l))
	assert.Equal(t, chain.Leaf, new(chain.Verifier).RoleOf(leaf(t, nil, nil)),
		"certifying itself makes no root of a leaf")
	assert.Equal(t, 2, chain.FindLeaf([]*pki.Certificate{rootC, lowerC, l}))
	assert.Equal(t, -1, chain.FindLeaf([]*pki.Certificate{rootC, lowerC}))
	assert.Equal(t, 0, chain.ServedLeaf([]*pki.Certificate{rootC, lowerC}), "clients take the first")
}

func TestOrderAndDrawing(t *testing.T) {
	root := authority(t, nil, forge.Template{Name: "Root"})
	upper := authority(t, root, forge.Template{Name: "Upper"})
	lower := authority(t, upper, forge.Template{Name: "Lower"})
	other := parse(t, authority(t, nil, forge.Template{Name: "Other"}).DER)
	l, lo, up, ro := leaf(t, lower, nil), parse(t, lower.DER), parse(t, upper.DER), parse(t, root.DER)
	tests := []struct {
		name   string
		given  []*pki.Certificate
		order  chain.Order
		places []chain.Place
		right  []chain.Place
	}{
		{"right", []*pki.Certificate{l, lo, up}, chain.Order{LeafFirst: true, InOrder: true},
			[]chain.Place{chain.InPlace, chain.InPlace, chain.InPlace},
			[]chain.Place{chain.InPlace, chain.InPlace, chain.InPlace, chain.AnchorHeld}},
		{"with the root", []*pki.Certificate{l, lo, up, ro}, chain.Order{LeafFirst: true, InOrder: true},
			[]chain.Place{chain.InPlace, chain.InPlace, chain.InPlace, chain.AnchorSent},
			[]chain.Place{chain.InPlace, chain.InPlace, chain.InPlace, chain.AnchorHeld}},
		{"intermediates swapped", []*pki.Certificate{l, up, lo}, chain.Order{LeafFirst: true},
			[]chain.Place{chain.InPlace, chain.OutOfOrder, chain.OutOfOrder},
			[]chain.Place{chain.InPlace, chain.InPlace, chain.InPlace, chain.AnchorHeld}},
		{"the leaf and the root", []*pki.Certificate{l, ro}, chain.Order{LeafFirst: true, InOrder: true},
			[]chain.Place{chain.InPlace, chain.AnchorSent}, nil},
		{"one comes again where it belongs", []*pki.Certificate{l, up, lo, up}, chain.Order{LeafFirst: true},
			[]chain.Place{chain.InPlace, chain.OutOfOrder, chain.OutOfOrder, chain.InPlace}, nil},
		{"one is missing, and the leaf comes last", []*pki.Certificate{up, l}, chain.Order{InOrder: true}, nil, nil},
		{"one is missing between them", []*pki.Certificate{l, up}, chain.Order{LeafFirst: true, InOrder: true},
			[]chain.Place{chain.InPlace, chain.InPlace},
			[]chain.Place{chain.InPlace, chain.Missing, chain.InPlace, chain.AnchorHeld}},
		{"the upper first", []*pki.Certificate{up, lo, l}, chain.Order{}, nil, nil},
		{"leaf last", []*pki.Certificate{lo, up, l}, chain.Order{InOrder: true}, nil, nil},
		{"a stranger between them is in nobody's way", []*pki.Certificate{l, other, lo, up},
			chain.Order{LeafFirst: true, InOrder: true},
			[]chain.Place{chain.InPlace, chain.NotOnPath, chain.InPlace, chain.InPlace}, nil},
		{"the leaf alone", []*pki.Certificate{l}, chain.Order{LeafFirst: true, InOrder: true},
			[]chain.Place{chain.InPlace}, []chain.Place{chain.InPlace, chain.Missing, chain.Missing, chain.AnchorHeld}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			p, _ := new(chain.Verifier).Search(chain.Query{Leaf: l, Given: chain.NewPool(tt.given),
				Known: chain.NewPool([]*pki.Certificate{lo, up}), Store: store(ro), At: now})
			require.True(t, p.Valid())
			assert.Equal(t, tt.order, chain.CompareOrder(tt.given, p))
			view := new(chain.Verifier).Draw(chain.NewBudget(context.Background()), tt.given, p, "inner")
			assert.Equal(t, "inner", view.Store)
			assert.Equal(t, p.Borrowed == 0, view.Complete)
			if tt.places != nil {
				assert.Equal(t, tt.places, places(view.Given))
			}
			if tt.right != nil {
				assert.Equal(t, tt.right, places(view.Right))
			}
		})
	}
	alone, _ := new(chain.Verifier).Search(chain.Query{Leaf: ro, Store: store(ro), At: now})
	view := new(chain.Verifier).Draw(chain.NewBudget(context.Background()), []*pki.Certificate{ro}, alone, "inner")
	assert.Equal(t, []chain.Place{chain.InPlace}, places(view.Given), "a root by itself is what was meant")
	assert.Equal(t, chain.Order{InOrder: true}, chain.CompareOrder(nil, alone), "nothing is in nobody's way")
}

// TestAnchorsAreTrustedAsTheyAre: what an anchor says of itself is not looked at (RFC 5280, 6.1.1 d).
func TestAnchorsAreTrustedAsTheyAre(t *testing.T) {
	odd := []forge.Extension{{ID: []int{2, 999, 1}, Critical: true, Value: []byte{5, 0}}}
	root := parse(t, authority(t, nil, forge.Template{Name: "Root", Extra: odd}).DER)
	p, _ := new(chain.Verifier).Search(chain.Query{Leaf: root, Store: store(root), At: now})
	assert.True(t, p.Valid(), "%v", p.Failures)
	p, _ = new(chain.Verifier).Search(chain.Query{Leaf: root, Store: store(), At: now})
	assert.True(t, has(p, chain.UnknownCritical))
}

// TestPools: certificates that are looked for by name.
func TestPools(t *testing.T) {
	root := authority(t, nil, forge.Template{Name: "Root"})
	one, two := leaf(t, root, nil), parse(t, root.DER)
	var none *chain.Pool
	assert.Equal(t, two, none.With([]*pki.Certificate{two}).Held(two.Fingerprint()))
	first := pool(one)
	both := first.With([]*pki.Certificate{two})
	assert.Equal(t, one, both.Held(one.Fingerprint()), "what was there stays")
	assert.Nil(t, first.Held(two.Fingerprint()), "and the old pool as it was")
	v, b := new(chain.Verifier), chain.NewBudget(context.Background())
	assert.True(t, v.Certifies(b, both, one))
	assert.False(t, v.Certifies(b, pool(parse(t, authority(t, nil, forge.Template{Name: "Root"}).DER)), one),
		"the name alone makes no issuer")
	c, _ := chain.Path{Certificates: []*pki.Certificate{two, one}}.Ends()
	assert.Equal(t, one, c, "the leaf ends first")
	c, _ = chain.Path{Certificates: []*pki.Certificate{one, two}}.Ends()
	assert.Equal(t, one, c)
	c, _ = chain.Path{}.Ends()
	assert.Nil(t, c)
}

func places(links []chain.Link) []chain.Place {
	var out []chain.Place
	for _, l := range links {
		out = append(out, l.Place)
	}
	return out
}
