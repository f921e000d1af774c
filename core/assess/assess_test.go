package assess_test

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/assess"
	"nurvik/core/endpoint"
	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/judge"
	"nurvik/core/pki"
	"nurvik/core/policy"
	"nurvik/core/trust"
)

var now = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)

const host = "tides.tarnholm.example"

// quay is a leaf with an intermediate and the two stores of the harbour: outer knows its root, inner does not.
type quay struct {
	leaf, issuing, root []byte
	outer, inner        *trust.Store
}

func newQuay(t *testing.T) quay {
	t.Helper()
	key := func() crypto.Signer {
		k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		return k
	}
	authority := func(issuer *forge.Authority, name string) *forge.Authority {
		a, err := forge.NewAuthority(issuer, key(), forge.ECDSASHA256,
			forge.Template{Name: name, From: now.AddDate(-1, 0, 0), Until: now.AddDate(5, 0, 0)})
		require.NoError(t, err)
		return a
	}
	root := authority(nil, "Root")
	issuing := authority(root, "Issuing")
	signer := key()
	spki, err := forge.PublicInfo(signer)
	require.NoError(t, err)
	leaf, err := forge.Issue(issuing, signer, forge.Template{Name: host, Names: []string{host}, SPKI: spki,
		From: now.AddDate(0, 0, -20), Until: now.AddDate(0, 0, 179)})
	require.NoError(t, err)
	anchor, err := trust.ParseAnchor(root.DER, trust.Private)
	require.NoError(t, err)
	return quay{leaf, issuing.DER, root.DER, trust.New("outer", []trust.Anchor{anchor}), trust.New("inner", nil)}
}

func observed(target string, chain ...[]byte) facts.Endpoint {
	return facts.Endpoint{Schema: facts.Schema, Endpoint: target, Observations: []facts.Observation{{
		Address: netip.MustParseAddrPort("192.0.2.7:443"), Outcome: facts.Answered, At: now, Certificates: chain,
		Versions: []facts.Version{{Name: "TLS 1.3", Answer: facts.Accepted}, {Name: "TLS 1.2", Answer: facts.Accepted}},
	}}}
}

func codes(j judge.Judgement) []string {
	out := []string{}
	for _, f := range j.Findings {
		if f.Code != "chain.root-sent" {
			out = append(out, f.Code+" "+string(f.Severity))
		}
	}
	return out
}

// TestWhatIsLearntCompletesChains: an intermediate that one endpoint forgets may be met at another, or in a file.
func TestWhatIsLearntCompletesChains(t *testing.T) {
	q := newQuay(t)
	alone, whole := observed(host, q.leaf), observed("pilots.tarnholm.example", q.leaf, q.issuing)
	file := facts.File{Path: "issuing.pem", Items: []facts.Item{{Kind: facts.Certificate, DER: q.issuing}}}
	expected := assess.Expectation{Policy: policy.Open(), Trust: []*trust.Store{q.outer}}
	tests := []struct {
		name     string
		observed []facts.Endpoint
		files    []facts.File
		pem      int // certificates that the finding gives
	}{
		{"met nowhere", []facts.Endpoint{alone}, nil, 0},
		{"met at another endpoint", []facts.Endpoint{alone, whole}, nil, 1},
		{"met in a file", []facts.Endpoint{alone}, []facts.File{file}, 1},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			e := assess.New(assess.Options{At: now, Anchors: []*trust.Store{q.outer}})
			e.LearnFacts(tt.observed, tt.files)
			judgements := e.Endpoints(tt.observed, func(int) assess.Expectation { return expected })
			require.NotEmpty(t, judgements[0].Findings)
			assert.Len(t, judgements[0].Findings[0].Evidence.MissingPEM, tt.pem)
		})
	}
}

// TestWhoIsChecked judges mail between servers: a certificate of a private issuer.
func TestWhoIsChecked(t *testing.T) {
	q := newQuay(t)
	leaf, err := pki.ParseCertificate(q.leaf)
	require.NoError(t, err)
	sum := func(data []byte) []byte { s := sha256.Sum256(data); return s[:] }
	chosen := policy.Open()
	chosen.Chosen = true
	tests := []struct {
		name          string
		policy        policy.Policy
		tlsa          []facts.TLSA
		authenticated bool
		want          []string
		by            string
	}{
		{"nobody checks", policy.Open(), nil, false, []string{"trust.unknown-anchor note"}, policy.Opportunistic},
		{"declared to be authenticated", policy.Open(), nil, true, []string{"trust.unknown-anchor fault"},
			policy.Default},
		{"a policy that was chosen", chosen, nil, false, []string{"trust.unknown-anchor fault"}, policy.Default},
		{"a record names the leaf, and takes the place of all else", policy.Open(),
			[]facts.TLSA{{Usage: 3, Selector: 1, Matching: 1, Data: sum(leaf.PublicKey.Raw)}}, false,
			[]string{"trust.unknown-anchor note"}, policy.Opportunistic},
		{"a record makes the issuer an anchor", policy.Open(),
			[]facts.TLSA{{Usage: 2, Selector: 0, Matching: 1, Data: sum(q.root)}}, false, []string{}, policy.Default},
		{"a record names another", policy.Open(), []facts.TLSA{{Usage: 3, Selector: 1, Matching: 1, Data: sum(nil)}},
			false,
			[]string{"dns.tlsa-mismatch fault", "trust.unknown-anchor fault"}, policy.Default},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			f := observed("smtp://"+host, q.leaf, q.issuing, q.root)
			f.DNS = &facts.DNS{TLSA: tt.tlsa, TLSAAt: "_25._tcp." + host, Validated: true}
			e := assess.New(assess.Options{At: now}).Ready()
			j := e.Endpoint(f, assess.Expectation{Policy: tt.policy, Trust: []*trust.Store{q.inner},
				Authenticated: tt.authenticated})
			assert.Equal(t, tt.want, codes(j))
			assert.Equal(t, tt.by, j.Basis.Policy, "the judgement says by which policy")
		})
	}
}

func TestLibrary(t *testing.T) {
	q := newQuay(t)
	own := policy.Open()
	own.Name, own.Version = "quay", 3
	l := &assess.Library{Stores: map[string]*trust.Store{"outer": q.outer},
		Policies: map[string]policy.Policy{"quay": own}}
	x := l.Expect(endpoint.Settings{Endpoint: host, Names: []string{"a.example"}, Policy: "quay",
		Trust: []string{"outer"}, Audiences: []string{"moon"}})
	assert.Equal(t, 3, x.Policy.Version)
	assert.True(t, x.Policy.Chosen, "a policy that is assigned holds on port 25 too")
	assert.Equal(t, []*trust.Store{q.outer}, x.Trust)
	assert.Empty(t, x.Audiences[0].Anchors, "a store that is gone accepts nothing")
	assert.Len(t, x.Names, 1)
	x = l.Expect(endpoint.Settings{Endpoint: host, Policy: "gone"})
	assert.Equal(t, policy.Default, x.Policy.Name)
	assert.Equal(t, trust.SystemName, x.Trust[0].Name)
	_, err := l.PolicyNamed("moon")
	assert.ErrorContains(t, err, "open-web")
	assert.Len(t, l.All(), 3)
}

// TestDistrust: without the root nothing is left.
func TestDistrust(t *testing.T) {
	q := newQuay(t)
	root, err := pki.ParseCertificate(q.root)
	require.NoError(t, err)
	expected := assess.Expectation{Policy: policy.Open(), Trust: []*trust.Store{q.outer}}
	f := observed(host, q.leaf, q.issuing)
	assert.Equal(t, judge.Sound, assess.New(assess.Options{At: now}).Ready().Endpoint(f, expected).Verdict)
	without := assess.New(assess.Options{At: now, Distrust: []pki.Fingerprint{root.Fingerprint()}}).Ready()
	assert.Equal(t, []string{"trust.unknown-anchor fault"}, codes(without.Endpoint(f, expected)))
}
