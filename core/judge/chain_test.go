package judge_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/judge"
	"nurvik/core/pki"
	"nurvik/core/trust"
)

// again issues one more certificate for an authority's name and key.
func (s *scene) again(issuer, of *forge.Authority, from, until time.Time) []byte {
	a, err := forge.NewAuthority(issuer, of.Key, forge.ECDSASHA256,
		forge.Template{Name: of.Name, From: from, Until: until})
	require.NoError(s.t, err)
	return a.DER
}

// store makes a trust store of the authorities.
func (s *scene) store(name string, authorities ...*forge.Authority) *trust.Store {
	var anchors []trust.Anchor
	for _, a := range authorities {
		anchors = append(anchors, trust.Anchor{Certificate: s.parse(a.DER), Kind: trust.Private})
	}
	return trust.New(name, anchors)
}

func TestSiblingsAndAlternates(t *testing.T) {
	s := newScene(t)
	leaf := s.leaf(s.lower, nil)
	bare := s.leaf(s.lower, func(w *forge.Template) { w.NoKeyIDs = true })
	sibling := s.authority(s.upper, forge.Template{Name: "Lower"})
	nameless := s.authority(s.upper, forge.Template{Name: "Lower", NoKeyIDs: true})
	second := s.authority(nil, forge.Template{Name: "Second Root"})
	old := s.authority(nil, forge.Template{Name: "Old Root", From: now.AddDate(-9, 0, 0), Until: now.AddDate(0, -1, 0)})
	expired := s.again(second, s.upper, now.AddDate(-3, 0, 0), now.AddDate(0, 0, -10))
	crossed := s.again(second, s.upper, now.AddDate(-3, 0, 0), now.AddDate(3, 0, 0))
	crossedOld := s.again(old, s.upper, now.AddDate(-3, 0, 0), now.AddDate(3, 0, 0))
	long := []*forge.Authority{s.root}
	for i := range 4 {
		long = append(long, s.authority(long[i], forge.Template{Name: fmt.Sprint("Deep ", i)}))
	}
	deep := [][]byte{s.leaf(long[4], nil)}
	for _, a := range long[1:] {
		deep = slices.Insert(deep, 1, a.DER)
	}
	know := func(c *judge.Context) { c.Known = s.known(s.lower.DER, s.upper.DER) }
	tests := []struct {
		name   string
		chain  [][]byte
		change func(*judge.Context)
		want   []string
		remedy string
	}{
		{"in the place of the right one, which is known", [][]byte{leaf, sibling.DER, s.upper.DER}, know,
			[]string{"chain.wrong-sibling fault"}, "SHA-256 " + s.parse(s.lower.DER).Fingerprint().String()},
		{"the right one is known nowhere", [][]byte{leaf, sibling.DER, s.upper.DER}, nil,
			[]string{"chain.wrong-sibling fault"}, "with the key identifier " + fmt.Sprintf("%x", s.lower.KeyID)},
		{"without key identifiers", [][]byte{bare, nameless.DER, s.upper.DER}, know,
			[]string{"chain.wrong-sibling fault"}, "is included as PEM"},
		{"beside the right one", [][]byte{leaf, s.lower.DER, s.upper.DER, sibling.DER}, nil,
			[]string{"chain.wrong-sibling note"}, "Remove the certificate"},
		{"higher up", [][]byte{leaf, s.lower.DER, s.authority(s.root, forge.Template{Name: "Upper"}).DER}, know,
			[]string{"chain.wrong-sibling fault"}, "Replace it with"},
		{"the right key and a signature that fails is no sibling",
			[][]byte{s.leaf(s.lower, func(w *forge.Template) { w.Spoilt = true }), s.lower.DER, s.upper.DER}, nil,
			[]string{"chain.bad-signature fault"}, ""},

		{"an expired cross-certificate", [][]byte{leaf, s.lower.DER, s.upper.DER, expired}, nil,
			[]string{"chain.expired-alternate risk"}, "Remove the expired certificate"},
		{"a cross-certificate that is valid says nothing", [][]byte{leaf, s.lower.DER, s.upper.DER, crossed}, nil,
			[]string{}, ""},
		{"it is told as expired where it is the only way", [][]byte{leaf, s.lower.DER, expired},
			func(c *judge.Context) { c.Trust = []*trust.Store{s.store("second", second)} },
			[]string{"time.expired fault"}, ""},
		{"another path to an expired root", [][]byte{leaf, s.lower.DER, s.upper.DER, crossedOld},
			func(c *judge.Context) { c.Trust = append(c.Trust, s.store("old", old)) },
			[]string{"trust.anchor-expired note"}, ""},
		{"five certificates below the anchor", deep, nil, []string{"chain.too-long note"}, ""},
		{"four are usual", deep[1:], nil, nil, ""},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			context := s.context()
			if tt.change != nil {
				tt.change(&context)
			}
			j := judge.Endpoint(observed(served("1.2,1.3", tt.chain...)), context)
			if tt.want == nil { // the leaf is an authority there, whose names do not matter
				assert.NotContains(t, codes(j), "chain.too-long note")
				return
			}
			assert.Equal(t, tt.want, codes(j))
			if tt.remedy != "" {
				assert.Contains(t, j.Findings[0].Remedy, tt.remedy)
			}
		})
	}
	t.Run("in a file an expired cross-certificate is a note", func(t *testing.T) {
		j := judge.File(fileOf(leaf, s.lower.DER, s.upper.DER, expired), s.context())
		assert.Equal(t, []string{"chain.expired-alternate note"}, codes(j))
	})
}

func fileOf(ders ...[]byte) facts.File {
	f := facts.File{Schema: facts.Schema, Path: "chain.pem"}
	for _, der := range ders {
		f.Items = append(f.Items, facts.Item{Kind: facts.Certificate, DER: der})
	}
	return f
}

func TestAudienceTable(t *testing.T) {
	s := newScene(t)
	second := s.authority(nil, forge.Template{Name: "Second Root"})
	crossed := s.again(second, s.upper, now.AddDate(-1, 0, 0), now.AddDate(0, 2, 0))
	leaf := s.leaf(s.lower, nil)
	context := s.context()
	context.Audiences = []*trust.Store{s.store("second", second), s.none}
	view := func(context judge.Context, chain ...[]byte) map[string]judge.Audience {
		j := judge.Endpoint(observed(served("1.2,1.3", chain...)), context)
		require.Len(t, j.Chains, 1)
		out := map[string]judge.Audience{}
		for _, a := range j.Chains[0].Audiences {
			out[a.Store] = a
		}
		require.Len(t, out, 3)
		return out
	}
	t.Run("each store by itself", func(t *testing.T) {
		got := view(context, leaf, s.lower.DER, s.upper.DER, crossed)
		assert.True(t, got["outer"].Trusted)
		assert.False(t, got["outer"].Required)
		assert.Equal(t, s.parse(leaf).NotAfter, *got["outer"].Until)
		assert.True(t, got["second"].Trusted)
		assert.True(t, got["second"].Required)
		assert.Equal(t, s.parse(crossed).NotAfter, *got["second"].Until, "the cross-certificate breaks first")
		assert.Equal(t, "Upper", got["second"].Paths[0].EndsWith)
		assert.False(t, got["none"].Trusted)
		assert.Contains(t, got["none"].Reason, `no issuer "Root" of Upper is known`)
		require.Len(t, got["outer"].Paths, 2, "the way to the second root is shown, with why it leads nowhere")
		assert.True(t, got["outer"].Paths[0].Valid)
		assert.False(t, got["outer"].Paths[1].Valid)
	})
	t.Run("what is missing is named", func(t *testing.T) {
		c := context
		c.Known = s.known(s.lower.DER, s.upper.DER)
		got := view(c, leaf)
		assert.Equal(t, `lacks "Lower" and "Upper"`, got["outer"].Reason)
		assert.Equal(t, 2, got["outer"].Paths[0].Borrowed)
	})
	t.Run("as of later", func(t *testing.T) {
		c := context
		c.At = now.AddDate(0, 3, 0)
		got := view(c, leaf, s.lower.DER, s.upper.DER, crossed)
		assert.True(t, got["outer"].Trusted)
		assert.Contains(t, got["second"].Reason, "Upper expired on")
	})
	t.Run("what if a key were not trusted", func(t *testing.T) {
		for name, id := range map[string]pki.Fingerprint{"certificate": s.parse(s.root.DER).Fingerprint(),
			"key": s.parse(s.root.DER).PublicKey.Fingerprint()} {
			c := context
			c.Distrust = map[pki.Fingerprint]bool{id: true}
			got := view(c, leaf, s.lower.DER, s.upper.DER, crossed)
			assert.False(t, got["outer"].Trusted, name)
			assert.True(t, got["second"].Trusted, name)
		}
	})
	t.Run("a rehearsal anchor trusts nobody", func(t *testing.T) {
		c := s.context()
		c.Trust = []*trust.Store{s.tryout}
		j := judge.Endpoint(observed(served("1.2,1.3", s.leaf(s.rehearsal, nil))), c)
		a := j.Chains[0].Audiences[0]
		assert.False(t, a.Trusted)
		assert.Equal(t, `"Rehearsal Root" is for rehearsal only`, a.Reason)
	})
}

func TestBundle(t *testing.T) {
	s := newScene(t)
	leaf := s.leaf(s.lower, nil)
	right := []string{s.parse(leaf).PEM(), s.parse(s.lower.DER).PEM(), s.parse(s.upper.DER).PEM()}
	bundle := func(context judge.Context, chain ...[]byte) []string {
		return judge.Endpoint(observed(served("1.2,1.3", chain...)), context).Chains[0].Bundle
	}
	assert.Equal(t, right, bundle(s.context(), leaf, s.upper.DER, s.lower.DER), "put in order")
	assert.Equal(t, right, bundle(s.context(), leaf, s.lower.DER, s.upper.DER, s.root.DER), "without the root")
	assert.Empty(t, bundle(s.context(), leaf, s.lower.DER, s.upper.DER), "nothing is to be repaired")
	assert.Empty(t, bundle(s.context(), leaf, s.lower.DER), "no complete chain is known")
	all := s.context()
	all.Bundles = true
	assert.Equal(t, right, bundle(all, leaf, s.lower.DER, s.upper.DER))
}

func TestHeapWithoutALeaf(t *testing.T) {
	s := newScene(t)
	context := s.context()
	file := fileOf(s.root.DER, s.upper.DER, s.lower.DER)
	assert.Empty(t, judge.File(file, context).Chains)
	context.Heap = true
	j := judge.File(file, context)
	require.Len(t, j.Chains, 1)
	assert.Equal(t, "Lower", j.Chains[0].View.Right[0].Label)
	assert.True(t, j.Chains[0].Audiences[0].Trusted)
}

func TestRevocation(t *testing.T) {
	s := newScene(t)
	s.lower.Base, s.upper.Base, s.root.Base = "http://quay.tarnholm.example", "http://quay.tarnholm.example",
		"http://quay.tarnholm.example"
	lower := s.again(s.upper, s.lower, now.AddDate(-1, 0, 0), now.AddDate(1, 0, 0))
	upper := s.again(s.root, s.upper, now.AddDate(-1, 0, 0), now.AddDate(1, 0, 0))
	listed := s.leaf(s.lower, nil)
	day := 24 * time.Hour
	lasting := func(from time.Time, lifetime time.Duration) func(*forge.Template) {
		return func(w *forge.Template) { w.Unlisted, w.From, w.Until = true, from, from.Add(lifetime-time.Second) }
	}
	time0, future := now.Add(-day), now.Add(day)
	fact := func(der []byte, status facts.RevocationStatus, change func(*facts.Revocation)) facts.Revocation {
		f := facts.Revocation{Certificate: s.parse(der).Fingerprint(), Source: facts.FromResponder, At: now,
			Status: status, Detail: facts.Because(facts.AnswerNotFor), NextUpdate: &future}
		if change != nil {
			change(&f)
		}
		return f
	}
	revoked := func(at *time.Time) func(*facts.Revocation) {
		return func(f *facts.Revocation) { f.RevokedAt, f.Reason = at, "superseded" }
	}
	old := func(f *facts.Revocation) { f.NextUpdate = &time0 }
	tests := []struct {
		name  string
		leaf  []byte
		facts []facts.Revocation
		want  []string
		state string // of the leaf
	}{
		{"good", listed, []facts.Revocation{fact(listed, facts.RevocationGood, nil)}, []string{}, "good"},
		{"revoked", listed, []facts.Revocation{fact(listed, facts.RevocationRevoked, revoked(&time0))},
			[]string{"revoke.revoked fault"}, "revoked"},
		{"revoked from tomorrow on", listed, []facts.Revocation{fact(listed, facts.RevocationRevoked,
			revoked(&future))}, []string{}, "good"},
		{"one source says revoked", listed, []facts.Revocation{fact(listed, facts.RevocationGood, nil),
			fact(listed, facts.RevocationRevoked,
				func(f *facts.Revocation) { f.Source = facts.FromList; revoked(&time0)(f) })},
			[]string{"revoke.revoked fault"}, "revoked"},
		{"the same from two sources is one finding", listed,
			[]facts.Revocation{fact(listed, facts.RevocationRevoked,
				func(f *facts.Revocation) { f.Source = facts.Stapled; revoked(&time0)(f) }),
				fact(listed, facts.RevocationRevoked, revoked(&time0))}, []string{"revoke.revoked fault"}, "revoked"},
		{"an intermediate is revoked", listed, []facts.Revocation{fact(listed, facts.RevocationGood, nil),
			fact(lower, facts.RevocationRevoked, revoked(&time0))}, []string{"revoke.revoked fault"}, "good"},
		{"an answer that proves nothing", listed, []facts.Revocation{fact(listed, facts.RevocationBadAnswer, nil)},
			[]string{"revoke.bad-answer risk"}, "bad-answer"},
		{"old", listed, []facts.Revocation{fact(listed, facts.RevocationGood, old)}, []string{"revoke.stale risk"},
			"stale"},
		{"no answer", listed, []facts.Revocation{fact(listed, facts.RevocationUnreachable, nil)},
			[]string{"revoke.unreachable note"}, "unreachable"},
		{"published, and not asked", listed, nil, []string{}, "not-asked"},
		{"none published", s.leaf(s.lower, func(w *forge.Template) { w.Unlisted = true }), nil,
			[]string{"revoke.none-published note"}, "none-published"},
		{"none published, for seven days", s.leaf(s.lower, lasting(now.Add(-day), 7*day)), nil, []string{}, "exempt"},
		{"none published, for a second more", s.leaf(s.lower, lasting(now.Add(-day), 7*day+time.Second)), nil,
			[]string{"revoke.none-published note"}, "none-published"},
		{"none published, and it says so", s.leaf(s.lower, func(w *forge.Template) {
			w.Unlisted, w.Extra = true, []forge.Extension{{ID: []int{2, 5, 29, 56}, Value: []byte{5, 0}}}
		}), nil, []string{}, "exempt"},
		{"a stapled answer is enough", s.leaf(s.lower, func(w *forge.Template) { w.Unlisted = true }), nil, []string{},
			"good"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			e := observed(served("1.2,1.3", tt.leaf, lower, upper))
			e.RevocationAsked, e.Revocation = true, tt.facts
			if tt.name == "a stapled answer is enough" {
				e.Revocation = []facts.Revocation{fact(tt.leaf, facts.RevocationGood,
					func(f *facts.Revocation) { f.Source = facts.Stapled })}
			}
			j := judge.Endpoint(e, s.context())
			assert.Equal(t, tt.want, codes(j))
			assert.Equal(t, tt.state, j.Chains[0].Revocation[0].State)
			assert.Len(t, j.Chains[0].Revocation, 3, "every certificate below the anchor")
			revoked := slices.Contains(tt.want, "revoke.revoked fault")
			assert.Equal(t, !revoked, j.Chains[0].Audiences[0].Trusted)
			e.RevocationAsked = false
			if !revoked {
				assert.Empty(t, judge.Endpoint(e, s.context()).Chains[0].Revocation,
					"where nothing was asked nothing is said")
			}
		})
	}
	t.Run("up to ten days for what was issued before March 2026", func(t *testing.T) {
		older := s.leaf(s.lower, lasting(time.Date(2026, 3, 14, 0, 0, 0, 0, time.UTC), 10*day))
		e := observed(served("1.2,1.3", older, lower, upper))
		e.RevocationAsked = true
		context := s.context()
		context.At = time.Date(2026, 3, 15, 0, 0, 0, 0, time.UTC)
		assert.NotContains(t, codes(judge.Endpoint(e, context)), "revoke.none-published note")
	})
	t.Run("a path without the revoked one is preferred", func(t *testing.T) {
		e := observed(served("1.2,1.3", listed, lower, upper, s.upper.DER))
		e.RevocationAsked, e.Revocation = true, []facts.Revocation{fact(upper, facts.RevocationRevoked,
			revoked(&time0))}
		j := judge.Endpoint(e, s.context())
		assert.NotContains(t, codes(j), "revoke.revoked fault")
		assert.True(t, j.Chains[0].Audiences[0].Trusted)
	})
}

func TestQuestions(t *testing.T) {
	s := newScene(t)
	leaf := s.leaf(s.lower, nil)
	asked := func(e facts.Endpoint, context judge.Context) (names []string, lacking []string) {
		questions, missing := judge.Questions(e, context)
		for _, q := range questions {
			names = append(names, q.Certificate.Label()+" of "+q.Issuer.Label())
		}
		for _, c := range missing {
			lacking = append(lacking, c.Label())
		}
		return names, lacking
	}
	full := served("1.2,1.3", leaf, s.lower.DER, s.upper.DER)
	names, lacking := asked(observed(full, full), s.context())
	assert.Equal(t, []string{host + " of Lower", "Lower of Upper", "Upper of Root"}, names,
		"once, though two addresses serve it")
	assert.Empty(t, lacking)
	names, lacking = asked(observed(served("1.2,1.3", leaf)), s.context())
	assert.Empty(t, names, "without an issuer there is nobody to ask")
	assert.Equal(t, []string{host}, lacking)
	e := observed(served("1.2,1.3", leaf))
	e.Fetched = []facts.Fetched{{Place: "http://quay.tarnholm.example/lower.der",
		Certificates: [][]byte{s.lower.DER, s.upper.DER}}}
	names, lacking = asked(e, s.context())
	assert.Len(t, names, 3, "what was fetched is known")
	assert.Empty(t, lacking)
	assert.Equal(t, []string{"chain.incomplete fault"}, codes(judge.Endpoint(e, s.context())))
	assert.NotEmpty(t, judge.Endpoint(e, s.context()).Findings[0].Evidence.MissingPEM)
}
