package chain_test

import (
	"encoding/hex"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/chain"
	"nurvik/core/forge"
	"nurvik/core/pki"
)

func unhex(t *testing.T, text string) []byte {
	t.Helper()
	data, err := hex.DecodeString(text)
	require.NoError(t, err)
	return data
}

// TestWhatCannotBeProcessed: a critical extension that cannot be decoded rejects the path like an unknown one (RFC
// 5280,
// 4.2), and so does one that stands twice; one that is not critical does not.
func TestWhatCannotBeProcessed(t *testing.T) {
	root := authority(t, nil, forge.Template{Name: "Root"})
	search := func(intermediate, end []forge.Extension, extra ...forge.Extension) chain.Path {
		lower := authority(t, root, forge.Template{Name: "Lower", Swap: intermediate,
			Extra: append(extra, notUsual(intermediate)...)})
		l := leaf(t, lower, func(w *forge.Template) { w.Swap, w.Extra = end, notUsual(end) })
		p, ended := new(chain.Verifier).Search(chain.Query{Leaf: l, Given: pool(parse(t, lower.DER)),
			Store: store(parse(t, root.DER)), At: now})
		require.Empty(t, ended)
		require.NotNil(t, p.Anchor)
		return p
	}
	critical := func(value string, id ...int) []forge.Extension {
		return []forge.Extension{{ID: id, Critical: true, Value: unhex(t, value)}}
	}
	for name, tt := range map[string]struct {
		above, leaf []forge.Extension
	}{
		"name constraints of NULL":               {critical("0500", 2, 5, 29, 30), nil},
		"name constraints with something behind": {critical("30000500", 2, 5, 29, 30), nil},
		"key usage without bits":                 {critical("0300", 2, 5, 29, 15), nil},
		"key usage with nine unused bits":        {critical("03020906", 2, 5, 29, 15), nil},
		"basic constraints of NULL":              {critical("0500", 2, 5, 29, 19), nil},
		"a negative path length":                 {critical("30060101ff0201ff", 2, 5, 29, 19), nil},
		"a path length that is no number":        {critical("30060101ff0401ff", 2, 5, 29, 19), nil},
		"policy constraints of NULL":             {critical("0500", 2, 5, 29, 36), nil},
		"negative policy constraints":            {critical("30038001ff", 2, 5, 29, 36), nil},
		"inhibitAnyPolicy that is no number":     {critical("0500", 2, 5, 29, 54), nil},
		"policy mappings that end in the midst":  {critical("30053003060129", 2, 5, 29, 33), nil},
		"policies without identifier":            {critical("30023000", 2, 5, 29, 32), nil},
		"alternative names that are none":        {nil, critical("0500", 2, 5, 29, 17)},
		"an entry of an unknown kind":            {nil, critical("30028f00", 2, 5, 29, 17)},
		"an address of five bytes":               {nil, critical("300787050102030405", 2, 5, 29, 17)},
		"extended usages that are none":          {nil, critical("30020500", 2, 5, 29, 37)},
		"an unknown one":                         {nil, critical("0500", 1, 2, 3, 4)},
	} {
		t.Run(name, func(t *testing.T) {
			p := search(tt.above, tt.leaf)
			require.NotEmpty(t, p.Failures)
			assert.True(t, has(p, chain.UnknownCritical), "%v", p.Failures)
			assert.False(t, p.Valid())
		})
	}
	t.Run("not critical", func(t *testing.T) {
		mappings := critical("0500", 2, 5, 29, 33)
		mappings[0].Critical = false
		assert.True(t, search(mappings, nil).Valid())
	})
	t.Run("twice", func(t *testing.T) {
		again := forge.Extension{ID: []int{2, 5, 29, 14}, Value: unhex(t, "04020102")}
		assert.True(t, has(search(nil, nil, again), chain.UnknownCritical))
	})
	t.Run("the anchor is trusted as it is", func(t *testing.T) {
		odd := authority(t, nil, forge.Template{Name: "Odd", Extra: critical("0500", 2, 5, 29, 54)})
		p, _ := new(chain.Verifier).Search(chain.Query{Leaf: leaf(t, odd, nil), Store: store(parse(t, odd.DER)),
			At: now})
		assert.True(t, p.Valid())
	})
}

func has(p chain.Path, reason chain.Reason) bool {
	for _, f := range p.Failures {
		if f.Reason == reason {
			return true
		}
	}
	return false
}

// notUsual are the extensions that an issuer does not write by itself.
func notUsual(list []forge.Extension) []forge.Extension {
	var out []forge.Extension
	for _, x := range list {
		switch last := x.ID[len(x.ID)-1]; {
		case len(x.ID) == 4 && (last == 15 || last == 17 || last == 19 || last == 37):
		default:
			out = append(out, x)
		}
	}
	return out
}

// TestConstraintsThatCannotBeProcessed exclude every name of their kind (RFC 5280, 4.2.1.10), critical or not.
func TestConstraintsThatCannotBeProcessed(t *testing.T) {
	root := authority(t, nil, forge.Template{Name: "Root"})
	const permitted, excluded = "a0", "a1"
	list := func(which string, subtrees string) string { // DER of nameConstraints with the one list
		body := unhex(t, subtrees)
		return "30" + hex.EncodeToString([]byte{byte(len(body) + 2)}) + which +
			hex.EncodeToString([]byte{byte(len(body))}) +
			subtrees
	}
	for name, tt := range map[string]struct {
		constraints string
		names       []string
		barred      bool
	}{
		"an address with a gapped mask": {list(excluded, "300a8708c0000200ff00ff00"),
			[]string{"198.51.100.7"}, true},
		"the same leaves host names alone": {list(excluded, "300a8708c0000200ff00ff00"),
			[]string{"tides.example"}, false},
		"an address of seven bytes": {list(permitted, "30098707c0000200ffff00"), []string{"192.0.2.7"},
			true},
		"a minimum": {list(permitted,
			"300c8207"+hex.EncodeToString([]byte("example"))+"800101"), []string{"tides.example"}, true},
		"a minimum of 0 is the default": {list(permitted,
			"300c8207"+hex.EncodeToString([]byte("example"))+"800100"), []string{"tides.example"}, false},
		"a maximum": {list(permitted,
			"300c8207"+hex.EncodeToString([]byte("example"))+"810105"), []string{"tides.example"}, true},
		"a directory name that is none": {list(excluded, "3004a4020500"), []string{"tides.example"}, true},
		"a subtree without base":        {list(excluded, "3000"), []string{"tides.example"}, true},
		"a base of an unknown kind":     {list(excluded, "30028f00"), []string{"tides.example"}, true},
		"NULL":                          {"0500", []string{"tides.example"}, true},
		"an IPv4 subtree permits no mapped address": {list(permitted, "300a8708c0000200ffffff00"),
			[]string{"::ffff:192.0.2.7"}, true},
		"an IPv4 subtree permits an IPv4 address": {list(permitted, "300a8708c0000200ffffff00"),
			[]string{"192.0.2.7"}, false},
		"an IPv4 subtree excludes no mapped address": {list(excluded, "300a8708c0000200ffffff00"),
			[]string{"::ffff:192.0.2.7"}, false},
		"an excluded domain, as ever": {list(excluded, "30098207"+hex.EncodeToString([]byte("example"))),
			[]string{"tides.example"}, true},
	} {
		for _, critical := range []bool{false, true} {
			lower := authority(t, root, forge.Template{Name: "Lower", Extra: []forge.Extension{{ID: []int{2, 5, 29, 30},
				Critical: critical, Value: unhex(t, tt.constraints)}}})
			l := leaf(t, lower, func(w *forge.Template) { w.Name, w.Names = "x", tt.names })
			p, _ := new(chain.Verifier).Search(chain.Query{Leaf: l, Given: pool(parse(t, lower.DER)),
				Store: store(parse(t, root.DER)), At: now})
			require.NotNil(t, p.Anchor)
			assert.Equal(t, tt.barred, has(p, chain.NameNotAllowed), "%s, critical %v: %v", name, critical, p.Failures)
		}
	}
}

// TestMailInTheSubject counts only where there are no alternative names.
func TestMailInTheSubject(t *testing.T) {
	root := authority(t, nil, forge.Template{Name: "Root"})
	base := "30178115" + hex.EncodeToString([]byte("office@other.example!"))
	lower := authority(t, root, forge.Template{Name: "Lower", Extra: []forge.Extension{{ID: []int{2, 5, 29, 30},
		Critical: true,
		Value:    unhex(t, "301ba019"+base)}}})
	subject := func(w *forge.Template) {
		mail := "office@tarnholm.example"
		attribute := append([]byte{0x30, byte(13 + len(mail)), 0x06, 9, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 9, 1,
			0x16,
			byte(len(mail))}, mail...)
		set := append([]byte{0x31, byte(len(attribute))}, attribute...)
		w.Instead = map[forge.Part][]byte{forge.Subject: append([]byte{0x30, byte(len(set))}, set...)}
	}
	for name, names := range map[string][]string{"without": nil, "with": {"tides.example"}} {
		l := leaf(t, lower, func(w *forge.Template) { subject(w); w.Names = names })
		require.Equal(t, "office@tarnholm.example", l.Subject.First("1.2.840.113549.1.9.1"))
		p, _ := new(chain.Verifier).Search(chain.Query{Leaf: l, Given: pool(parse(t, lower.DER)),
			Store: store(parse(t, root.DER)), At: now})
		assert.Equal(t, names == nil, has(p, chain.NameNotAllowed), name)
	}
}

// TestVersionOne: a certificate of version 1 below the anchor is no authority (RFC 5280, 6.1.4 k).
func TestVersionOne(t *testing.T) {
	root := authority(t, nil, forge.Template{Name: "Root"})
	old := authority(t, root, forge.Template{Name: "Old", Instead: map[forge.Part][]byte{forge.Version: {},
		forge.Extensions: {}}})
	c := parse(t, old.DER)
	require.Equal(t, 1, c.Version)
	l := leaf(t, old, nil)
	p, _ := new(chain.Verifier).Search(chain.Query{Leaf: l, Given: pool(c), Store: store(parse(t, root.DER)), At: now})
	assert.True(t, has(p, chain.NotAuthority))
	self := authority(t, nil, forge.Template{Name: "Old", Instead: map[forge.Part][]byte{forge.Version: {},
		forge.Extensions: {}}})
	p, _ = new(chain.Verifier).Search(chain.Query{Leaf: leaf(t, self, nil), Store: store(parse(t, self.DER)), At: now})
	assert.True(t, p.Valid(), "as an anchor it is")
}

// TestWeakSignaturesAreAvoided: of two paths the one without a broken hash is taken.
func TestWeakSignaturesAreAvoided(t *testing.T) {
	root := authority(t, nil, forge.Template{Name: "Root"})
	strong := authority(t, root, forge.Template{Name: "Lower"})
	c := parse(t, strong.DER)
	der, err := forge.Issue(root, nil, forge.Template{Name: "Lower", CA: true, SPKI: c.PublicKey.Raw, From: c.NotBefore,
		Until: c.NotAfter.AddDate(1, 0, 0), Sign: &forge.ECDSASHA1})
	require.NoError(t, err)
	weak := parse(t, der)
	for _, given := range [][]*pki.Certificate{{weak, c}, {c, weak}} {
		p, _ := new(chain.Verifier).Search(chain.Query{Leaf: leaf(t, strong, nil), Given: pool(given...),
			Store: store(parse(t, root.DER)), At: now})
		assert.True(t, p.Valid())
		assert.Same(t, c, p.Certificates[1])
		assert.Zero(t, p.Weak)
	}
}

// TestTwins: of certificates for one name and key from one issuer, a forged or narrower one that lasts longer does not
// displace the right one, be they given or known.
func TestTwins(t *testing.T) {
	root := authority(t, nil, forge.Template{Name: "Root"})
	lower := authority(t, root, forge.Template{Name: "Lower"})
	right := parse(t, lower.DER)
	twin := func(change func(*forge.Template)) *pki.Certificate {
		w := forge.Template{Name: "Lower", CA: true, SPKI: right.PublicKey.Raw, From: right.NotBefore,
			Until: right.NotAfter.AddDate(2, 0, 0)}
		change(&w)
		der, err := forge.Issue(root, nil, w)
		require.NoError(t, err)
		return parse(t, der)
	}
	mail := forge.Extension{ID: []int{2, 5, 29, 37}, Value: unhex(t, "300a06082b06010505070304")}
	l := leaf(t, lower, nil)
	for name, other := range map[string]*pki.Certificate{
		"forged":    twin(func(w *forge.Template) { w.Spoilt = true }),
		"for mail":  twin(func(w *forge.Template) { w.Extra = []forge.Extension{mail} }),
		"no signer": twin(func(w *forge.Template) { w.CA = false }),
	} {
		for where, q := range map[string]chain.Query{
			"given":           {Given: pool(other, right)},
			"known":           {Known: pool(other, right)},
			"given and known": {Given: pool(other), Known: pool(right)},
		} {
			q.Leaf, q.Store, q.At, q.Usage = l, store(parse(t, root.DER)), now, pki.UsageServerAuth
			p, ended := new(chain.Verifier).Search(q)
			assert.Empty(t, ended)
			assert.True(t, p.Valid(), "%s, %s: %v", name, where, p.Failures)
			assert.Same(t, right, p.Certificates[1], "%s, %s", name, where)
		}
	}
	t.Run("dozens that were renewed cost nothing", func(t *testing.T) {
		known := []*pki.Certificate{right}
		for i := range 60 {
			known = append(known, twin(func(w *forge.Template) { w.Until = right.NotAfter.AddDate(0, -i, 0) }))
		}
		deep := authority(t, lower, forge.Template{Name: "Deep"})
		deeper := leaf(t, deep, nil)
		p, ended := new(chain.Verifier).Search(chain.Query{Leaf: deeper,
			Known: pool(append(known, parse(t, deep.DER))...),
			Store: store(parse(t, root.DER)), At: now})
		assert.Empty(t, ended)
		assert.True(t, p.Valid())
		assert.True(t, p.Certificates[2].NotAfter.Equal(right.NotAfter))
	})
	t.Run("nor do they where no path is good", func(t *testing.T) {
		var known []*pki.Certificate
		renewed := func(issuer *forge.Authority, name string) *forge.Authority {
			first := authority(t, issuer, forge.Template{Name: name})
			c := parse(t, first.DER)
			for i := range 30 {
				der, err := forge.Issue(issuer, nil, forge.Template{Name: name, CA: true, SPKI: c.PublicKey.Raw,
					From: c.NotBefore, Until: c.NotAfter.AddDate(0, -i, 0)})
				require.NoError(t, err)
				known = append(known, parse(t, der))
			}
			return first
		}
		deep := renewed(renewed(renewed(root, "High"), "Middle"), "Deep")
		for name, change := range map[string]func(*forge.Template){
			"a spoilt signature": func(w *forge.Template) { w.Spoilt = true },
			"an unknown extension": func(w *forge.Template) {
				w.Extra = []forge.Extension{{ID: []int{1, 2, 3, 4}, Critical: true, Value: []byte{5, 0}}}
			},
		} {
			p, ended := new(chain.Verifier).Search(chain.Query{Leaf: leaf(t, deep, change), Known: pool(known...),
				Store: store(parse(t, root.DER)), At: now})
			assert.Empty(t, ended, name)
			assert.Len(t, p.Failures, 1, name)
			assert.Len(t, p.Certificates, 5, name)
		}
	})
	t.Run("one that somebody else signed is no twin", func(t *testing.T) {
		// Two issuers of one name, of which only the second is trusted; what it signed ends first.
		first := authority(t, nil, forge.Template{Name: "Same"})
		second := authority(t, nil, forge.Template{Name: "Same"})
		from := func(issuer *forge.Authority, months int) *pki.Certificate {
			der, err := forge.Issue(issuer, nil, forge.Template{Name: "Lower", CA: true, SPKI: right.PublicKey.Raw,
				From: right.NotBefore, Until: right.NotAfter.AddDate(0, months, 0)})
			require.NoError(t, err)
			return parse(t, der)
		}
		p, _ := new(chain.Verifier).Search(chain.Query{Leaf: l, Known: pool(from(first, 3), from(second, 0),
			parse(t, first.DER)), Store: store(parse(t, second.DER)), At: now})
		assert.True(t, p.Valid(), p.Failures)
	})
}
