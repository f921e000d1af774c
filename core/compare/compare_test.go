package compare

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/pki"
	"nurvik/core/trust"
)

var start = time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)

// bench makes the certificates, requests and keys that are compared.
type bench struct {
	t           *testing.T
	key, other  crypto.Signer
	strong      crypto.Signer
	root, after *forge.Authority
	issuing     *forge.Authority
}

func newBench(t *testing.T) *bench {
	b := &bench{t: t}
	for _, k := range []struct {
		into  *crypto.Signer
		curve elliptic.Curve
	}{{&b.key, elliptic.P256()}, {&b.other, elliptic.P256()}, {&b.strong, elliptic.P384()}} {
		key, err := ecdsa.GenerateKey(k.curve, rand.Reader)
		require.NoError(t, err)
		*k.into = key
	}
	b.root = b.authority(nil, "Root", start.AddDate(10, 0, 0))
	b.issuing = b.authority(b.root, "Issuing", start.AddDate(5, 0, 0))
	b.after = &forge.Authority{Name: b.issuing.Name, Key: b.issuing.Key, KeyID: b.issuing.KeyID, Sign: b.issuing.Sign}
	spki, err := forge.PublicInfo(b.issuing.Key)
	require.NoError(t, err)
	b.after.DER, err = forge.Issue(b.root, nil, forge.Template{Name: "Issuing", SPKI: spki, CA: true, From: start,
		Until: start.AddDate(8, 0, 0)})
	require.NoError(t, err)
	return b
}

func (b *bench) authority(issuer *forge.Authority, name string, until time.Time) *forge.Authority {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(b.t, err)
	a, err := forge.NewAuthority(issuer, key, forge.ECDSASHA256, forge.Template{Name: name, From: start, Until: until})
	require.NoError(b.t, err)
	return a
}

type change func(*forge.Template)

func (b *bench) leaf(key crypto.Signer, names []string, changes ...change) facts.Item {
	spki, err := forge.PublicInfo(key)
	require.NoError(b.t, err)
	w := forge.Template{Name: "tides.example", Names: names, SPKI: spki, From: start, Until: start.AddDate(0, 6, 0)}
	for _, c := range changes {
		c(&w)
	}
	der, err := forge.Issue(b.issuing, nil, w)
	require.NoError(b.t, err)
	return facts.Item{Kind: facts.Certificate, DER: der}
}

func (b *bench) request(key crypto.Signer, names []string, extra ...pkix.Extension) facts.Item {
	der, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{
		Subject: pkix.Name{Organization: []string{"Tarnholm Harbour Authority"},
			CommonName: "tides.example"}, DNSNames: names,
		ExtraExtensions: extra}, key)
	require.NoError(b.t, err)
	return facts.Item{Kind: facts.Request, DER: der}
}

func (b *bench) private(key crypto.Signer) facts.Item {
	spki, err := forge.PublicInfo(key)
	require.NoError(b.t, err)
	return facts.Item{Kind: facts.PrivateKey, Key: &facts.Key{SPKI: spki}}
}

func ca(a *forge.Authority) facts.Item { return facts.Item{Kind: facts.Certificate, DER: a.DER} }

func side(name string, items ...facts.Item) Side {
	return OfFiles(name, []facts.File{{Path: name, Items: items}})
}

func extension(t *testing.T, value any, id ...int) pkix.Extension {
	der, err := asn1.Marshal(value)
	require.NoError(t, err)
	return pkix.Extension{Id: id, Value: der}
}

func TestCompare(t *testing.T) {
	b := newBench(t)
	one, two, three := []string{"tides.example"}, []string{"tides.example", "ebb.example"},
		[]string{"tides.example", "ebb.example", "flood.example"}
	usual := b.leaf(b.key, one)
	type flag struct{ CA bool }
	asksCA := extension(t, flag{true}, 2, 5, 29, 19)
	asksServer := extension(t, []asn1.ObjectIdentifier{{1, 3, 6, 1, 5, 5, 7, 3, 1}}, 2, 5, 29, 37)
	asksBoth := extension(t, []asn1.ObjectIdentifier{{1, 3, 6, 1, 5, 5, 7, 3, 1}, {1, 3, 6, 1, 5, 5, 7, 3, 2}}, 2, 5,
		29, 37)
	asksStaple := extension(t, []int{5}, 1, 3, 6, 1, 5, 5, 7, 1, 24)
	code := func(w *forge.Template) {
		w.Usages = []asn1.ObjectIdentifier{{1, 3, 6, 1, 5, 5, 7, 3, 3}}
	}
	later := func(w *forge.Template) { w.From, w.Until = start.AddDate(0, 6, 0), start.AddDate(1, 0, 0) }
	sha1 := func(w *forge.Template) { w.Sign = &forge.ECDSASHA1 }
	authority := func(w *forge.Template) { w.CA = true }
	wild := []string{"*.tides.example"}
	tests := []struct {
		name          string
		first, second []facts.Item
		ignored       []Aspect
		sentence      string
		matters       bool
		aspects       []Aspect // of what matters
	}{
		{"the same certificate", of(usual), of(usual), nil, "The same certificate.", false, nil},
		{"renewed on the same key, names dropped", of(b.leaf(b.key, three)), of(b.leaf(b.key, one, later)), nil,
			"The same key, two names fewer.", true, []Aspect{Names}},
		{"the same, and names do not count", of(b.leaf(b.key, three)), of(b.leaf(b.key, one, later)), []Aspect{Names},
			"The same key, two names fewer.", false, nil},
		{"renewed with a new key and a name more", of(usual), of(b.leaf(b.other, two, later)), nil,
			"A new key, one name more.", false, nil},
		{"order and case of names", of(b.leaf(b.key, two)), of(b.leaf(b.key, []string{"EBB.example", "tides.example"})),
			nil,
			"The same key, the same names.", false, nil},
		{"a name that the wildcard covers is not lost", of(b.leaf(b.key, []string{"low.tides.example"})),
			of(b.leaf(b.key, wild)), nil, "The same key, one name more.", false, nil},
		{"a wildcard that is spelt out is lost", of(b.leaf(b.key, wild)), of(b.leaf(b.key,
			[]string{"low.tides.example"})), nil, "The same key, one name fewer, one name more.", true,
			[]Aspect{Names}},
		{"a stronger key", of(usual), of(b.leaf(b.strong, one)), nil, "A new key, the same names.", false, nil},
		{"a weaker key", of(b.leaf(b.strong, one)), of(usual), nil, "A new key, the same names, a weaker key.",
			true, []Aspect{Strength}},
		{"a weaker hash", of(usual), of(b.leaf(b.key, one, sha1)), nil,
			"The same key, the same names, a weaker hash.", true, []Aspect{Strength}},
		{"a usage granted", of(usual), of(b.leaf(b.key, one, code)), nil,
			"The same key, the same names, one usage more.", true, []Aspect{Usages}},
		{"a usage lost", of(b.leaf(b.key, one, code)), of(usual), nil,
			"The same key, the same names, one usage fewer.", true, []Aspect{Usages}},

		{"request: as asked", of(b.request(b.key, two)), of(b.leaf(b.key, two)), nil,
			"The key of the request, all its names.",
			false, nil},
		{"request: a name dropped", of(b.request(b.key, two)), of(usual), nil,
			"The key of the request, one name fewer.", true, []Aspect{Names}},
		{"request: another key", of(b.request(b.other, one)), of(usual), nil,
			"Another key than the request's, all its names.", true, []Aspect{Key}},
		{"request: CA flag refused", of(b.request(b.key, one, asksCA)), of(usual), nil,
			"The key of the request, all its names, CA flag refused.", true, []Aspect{Usages}},
		{"request: a CA nobody asked for", of(b.request(b.key, one)), of(b.leaf(b.key, one, authority)), nil,
			"The key of the request, all its names, a CA, two usages too many.", true, []Aspect{Usages}},
		{"request: a usage too many", of(b.request(b.key, one)), of(b.leaf(b.key, one, code)), nil,
			"The key of the request, all its names, one usage too many.", true, []Aspect{Usages}},
		{"request: exactly the usages", of(b.request(b.key, one, asksServer)), of(usual), nil,
			"The key of the request, all its names.", false, nil},
		{"request: a usage not granted", of(b.request(b.key, one, asksBoth)), of(usual), nil,
			"The key of the request, all its names, one usage fewer.", true, []Aspect{Usages}},
		{"request: an extension not granted", of(b.request(b.key, one, asksStaple)), of(usual), nil,
			"The key of the request, all its names, one extension not granted.", false, nil},

		{"chain: an intermediate lost", of(usual, ca(b.issuing)), of(usual), nil,
			"The same certificate, one chain certificate fewer.", true, []Aspect{Chain}},
		{"chain: the same, and the chain does not count", of(usual, ca(b.issuing)), of(usual),
			[]Aspect{Chain}, "The same certificate, one chain certificate fewer.", false, nil},
		{"chain: an intermediate added", of(usual), of(usual, ca(b.issuing)), nil,
			"The same certificate, one chain certificate more.", false, nil},
		{"chain: renewed on the same key", of(usual, ca(b.issuing)), of(usual, ca(b.after)), nil,
			"The same certificate.", false, nil},
		{"bundles", of(ca(b.issuing), ca(b.root)), of(ca(b.root), ca(b.issuing)), nil, "The same CA certificates.",
			false, nil},
		{"bundles: one is gone", of(ca(b.issuing), ca(b.root)), of(ca(b.root)), nil, "One CA certificate fewer.", true,
			[]Aspect{Chain}},
		{"two roots that have nothing in common", of(ca(b.root)), of(ca(b.authority(nil, "Elsewhere", start))), nil,
			"One CA certificate fewer, one CA certificate more.", true, []Aspect{Chain}},
		{"an intermediate and its successor", of(ca(b.issuing)), of(ca(b.after)), nil, "The same key, the same names.",
			false,
			nil},

		{"key and certificate", of(b.private(b.key)), of(usual), nil, "They belong together.", false, nil},
		{"key and another certificate", of(b.private(b.other)), of(usual), nil,
			"They do not belong together: different keys.", true, []Aspect{Key}},
		{"two keys", of(b.private(b.other)), of(b.private(b.key)), nil, "Different keys.", true, []Aspect{Key}},
		{"keystore and file: the certificate is the same, the key is not", of(usual, b.private(b.key)),
			of(usual, b.private(b.other)), nil, "The same certificate, another private key.", true, []Aspect{Key}},
		{"several leaves: each finds its own", of(usual, b.leaf(b.other, []string{"ebb.example"}, other)),
			of(b.leaf(b.other, []string{"ebb.example"}, other), usual), nil, "Two pairs compared.", false, nil},
		{"several leaves: one is gone", of(usual, b.leaf(b.other, []string{"ebb.example"}, other)),
			of(usual), nil, "The same certificate, one certificate fewer.", true, []Aspect{Names}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			r := Compare(side("first", tt.first...), side("second", tt.second...), tt.ignored...)
			assert.Equal(t, tt.sentence, r.Sentence)
			assert.Equal(t, tt.matters, r.Matters)
			var aspects []Aspect
			for _, d := range allOf(r) {
				if d.Matters && (len(aspects) == 0 || aspects[len(aspects)-1] != d.Aspect) {
					aspects = append(aspects, d.Aspect)
				}
			}
			assert.Equal(t, tt.aspects, aspects)
			assert.Empty(t, r.Unknown)
		})
	}
}

func other(w *forge.Template) { w.Name = "ebb.example" }

func of(items ...facts.Item) []facts.Item { return items }

func allOf(r *Result) []Difference {
	out := r.Differences
	for _, p := range r.Pairs {
		out = append(out, p.Differences...)
	}
	return out
}

func TestWhatWasNotSeenIsSaid(t *testing.T) {
	b := newBench(t)
	locked := facts.File{Path: "second", Items: []facts.Item{b.leaf(b.key, []string{"tides.example"}),
		{Kind: facts.PrivateKey, Key: &facts.Key{Locked: facts.NoPassword}}}}
	r := Compare(side("first", b.leaf(b.key, []string{"tides.example"})), OfFiles("second", []facts.File{locked}))
	assert.False(t, r.Matters)
	assert.Len(t, r.Unknown, 1)
	assert.True(t, func() bool { s := side("empty"); return s.Empty() }())
}

func TestCompareStores(t *testing.T) {
	b := newBench(t)
	anchor := func(a *forge.Authority, kind trust.Kind) trust.Anchor {
		c, err := pki.ParseCertificate(a.DER)
		require.NoError(t, err)
		return trust.Anchor{Certificate: c, Kind: kind}
	}
	both := trust.New("both", []trust.Anchor{anchor(b.root, trust.Public), anchor(b.issuing, trust.Private)})
	one := trust.New("one", []trust.Anchor{anchor(b.root, trust.Private)})
	r := Compare(OfStore("both", both), OfStore("one", one))
	assert.Equal(t, "One root in common, one root fewer, roots of another kind.", r.Sentence)
	assert.True(t, r.Matters)
	r = Compare(OfStore("one", one), OfStore("both", both))
	assert.False(t, r.Matters, "a root more is only told")
	assert.Equal(t, "The same roots.", Compare(OfStore("one", one), OfStore("one", one)).Sentence)
}

func TestCompareVisits(t *testing.T) {
	b := newBench(t)
	visit := func(effort facts.Effort, versions, groups []string) Side {
		o := facts.Observation{Outcome: facts.Answered, Effort: effort, Groups: &facts.Groups{Accepted: groups},
			Certificates: [][]byte{b.leaf(b.key, []string{"tides.example"}).DER}}
		for _, v := range versions {
			o.Versions = append(o.Versions, facts.Version{Name: v, Answer: facts.Accepted})
		}
		return OfEndpoint("tides.example:443", facts.Endpoint{Observations: []facts.Observation{o}})
	}
	texts := func(r *Result) (out []string) {
		for _, d := range r.Differences {
			out = append(out, d.Text)
		}
		return out
	}
	old := visit(facts.Normal, []string{"TLS 1.2", "TLS 1.1"}, []string{"x25519"})
	now := visit(facts.Normal, []string{"TLS 1.3", "TLS 1.2"}, []string{"x25519", "secp256r1"})
	assert.Equal(t, []string{"No longer accepted: TLS 1.1.", "Newly accepted: TLS 1.3.",
		"Groups that are newly accepted: secp256r1."}, texts(Compare(old, now)))
	quick := visit(facts.Quick, []string{"TLS 1.2", "TLS 1.1"}, nil)
	assert.Empty(t, texts(Compare(old, quick)), "nothing is concluded from what a quick visit does not ask")
	unclear := visit(facts.Normal, []string{"TLS 1.2", "TLS 1.1"}, []string{"x25519"})
	unclear.visits[0].Versions[1].Answer = facts.NotShown
	assert.Empty(t, texts(Compare(old, unclear)), "nor from a version that was not shown")
	assert.Empty(t, texts(Compare(unclear, old)))
	unclear.visits[0].Versions[1].Answer = facts.Declined
	assert.Equal(t, []string{"No longer accepted: TLS 1.1."}, texts(Compare(old, unclear)))
}
