package judge_test

import (
	"encoding/json"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/judge"
	"nurvik/core/naming"
	"nurvik/core/trust"
)

func TestEndpoint(t *testing.T) {
	s := newScene(t)
	lasting := func(from, until int) func(*forge.Template) {
		return func(w *forge.Template) {
			w.From, w.Until = now.AddDate(0, 0, from), now.AddDate(0, 0, until).Add(-time.Second)
		}
	}
	chainOf := func(change func(*forge.Template)) [][]byte {
		return append([][]byte{s.leaf(s.lower, change)}, s.lower.DER, s.upper.DER)
	}
	expiredRoot := s.authority(nil, forge.Template{Name: "Old Root", From: now.AddDate(-9, 0, 0),
		Until: now.AddDate(0, -1, 0)})
	expiredUpper := s.authority(s.root, forge.Template{Name: "Old Upper", From: now.AddDate(-9, 0, 0),
		Until: now.AddDate(0, -1, 0)})
	short, err := forge.RSAInfo(1022)
	require.NoError(t, err)
	middling, err := forge.RSAInfo(1536)
	require.NoError(t, err)

	ebbing := s.authority(s.root, forge.Template{Name: "Ebbing", From: now.AddDate(-2, 0, 0),
		Until: now.AddDate(0, 0, 100)})
	constrained := s.authority(s.root, forge.Template{Name: "Inland", From: now.AddDate(-2, 0, 0),
		Until: now.AddDate(2, 0, 0),
		Extra: []forge.Extension{{ID: []int{2, 5, 29, 30}, Critical: true,
			Value: append([]byte{0x30, 18, 0xa0, 16, 0x30, 14, 0x82, 12}, "land.example"...)}}})
	letters := s.authority(s.root, forge.Template{Name: "Letters", From: now.AddDate(-2, 0, 0),
		Until: now.AddDate(2, 0, 0),
		Extra: []forge.Extension{{ID: []int{2, 5, 29, 37}, Value: []byte{0x30, 10, 6, 8, 0x2b, 6, 1, 5, 5, 7, 3, 4}}}})
	board := s.authority(s.root, forge.Template{Name: "Board", From: now.AddDate(-2, 0, 0), Until: now.AddDate(2, 0, 0),
		Extra: []forge.Extension{{ID: []int{2, 5, 29, 36}, Critical: true, Value: []byte{0x30, 3, 0x80, 1, 0}}}})
	right := chainOf(nil)
	swapped := [][]byte{right[0], right[2], right[1]}
	tests := []struct {
		name     string
		versions string
		chain    [][]byte
		change   func(*judge.Context)
		verdict  judge.Verdict
		want     []string
	}{
		{"sound", "1.2,1.3", chainOf(nil), nil, judge.Sound, []string{}},
		{"expired", "1.2,1.3", chainOf(lasting(-200, -1)), nil, judge.Faulty, []string{"time.expired fault"}},
		{"not yet valid", "1.2,1.3", chainOf(lasting(1, 200)), nil, judge.Faulty, []string{"time.not-yet-valid fault"}},
		{"soon replaces due", "1.2,1.3", chainOf(lasting(-190, 9)), nil, judge.AtRisk,
			[]string{"time.expires-soon risk"}},
		{"due", "1.2,1.3", chainOf(lasting(-149, 50)), nil, judge.Sound, []string{"time.renewal-due note"}},
		{"judged as of later", "1.2,1.3", chainOf(nil), func(c *judge.Context) { c.At = now.AddDate(1, 0, 0) },
			judge.Faulty, []string{"time.expired fault"}},
		{"an intermediate expired: its end, and nothing of the leaf", "1.2,1.3",
			[][]byte{s.leaf(expiredUpper, nil), expiredUpper.DER}, nil, judge.Faulty, []string{"time.expired fault"}},

		{"leaf alone, intermediates known", "1.2,1.3", chainOf(nil)[:1],
			func(c *judge.Context) { c.Known = s.known(s.lower.DER, s.upper.DER) }, judge.Faulty,
			[]string{"chain.incomplete fault"}},
		{"leaf alone, nothing known, but where to get it", "1.2,1.3", chainOf(nil)[:1], nil, judge.Faulty,
			[]string{"chain.incomplete fault"}},
		{"leaf alone, nothing known nor said", "1.2,1.3",
			[][]byte{s.leaf(s.lower, func(w *forge.Template) { w.NoKeyIDs = true })}, nil, judge.Faulty,
			[]string{"trust.unknown-anchor fault"}},
		{"wrong order where 1.2 is accepted", "1.2,1.3", swapped, nil, judge.Faulty,
			[]string{"chain.wrong-order fault"}},
		{"wrong order where only 1.3 is", "1.3", swapped, nil, judge.AtRisk,
			[]string{"chain.wrong-order risk", "proto.without-tls12 note TLS 1.2"}},
		{"leaf not first is a fault under 1.3 too", "1.3", [][]byte{right[1], right[0], right[2]}, nil, judge.Faulty,
			[]string{"chain.wrong-order fault", "proto.without-tls12 note TLS 1.2"}},
		{"root sent", "1.2,1.3", append(chainOf(nil), s.root.DER), nil, judge.Sound, []string{"chain.root-sent note"}},
		{"an intermediate twice", "1.2,1.3", append(chainOf(nil), s.upper.DER), nil, judge.Sound,
			[]string{"chain.duplicate note"}},
		{"another issuer's intermediate", "1.2,1.3", append(chainOf(nil), ebbing.DER), nil, judge.Sound,
			[]string{"chain.unrelated note"}},
		{"an intermediate that ends first", "1.2,1.3", [][]byte{s.leaf(ebbing, nil), ebbing.DER}, nil, judge.AtRisk,
			[]string{"chain.expires-before-leaf risk"}},
		{"a name that the issuer may not certify", "1.2,1.3", [][]byte{s.leaf(constrained, nil), constrained.DER}, nil,
			judge.Faulty, []string{"trust.name-constraint fault"}},
		{"an issuer for e-mail", "1.2,1.3", [][]byte{s.leaf(letters, nil), letters.DER}, nil, judge.Faulty,
			[]string{"trust.usage fault"}},
		{"no policy where one is required", "1.2,1.3", [][]byte{s.leaf(board, nil), board.DER}, nil, judge.Faulty,
			[]string{"trust.policy fault"}},
		{"self-signed", "1.2,1.3", [][]byte{s.leaf(nil, nil)}, nil, judge.Faulty, []string{"trust.self-signed fault"}},
		{"rehearsal", "1.2,1.3", [][]byte{s.leaf(s.rehearsal, nil)}, nil, judge.Faulty,
			[]string{"trust.rehearsal-issuer fault"}},
		{"rehearsal, even when it is named as trusted", "1.2,1.3", [][]byte{s.leaf(s.rehearsal, nil)},
			func(c *judge.Context) { c.Trust = []*trust.Store{s.tryout} }, judge.Faulty,
			[]string{"trust.rehearsal-issuer fault"}},
		{"anchor elsewhere", "1.2,1.3", chainOf(nil), func(c *judge.Context) { c.Trust = []*trust.Store{s.none} },
			judge.Faulty, []string{"trust.unknown-anchor fault"}},
		{"one of two stores is enough", "1.2,1.3", chainOf(nil),
			func(c *judge.Context) { c.Trust = []*trust.Store{s.none, s.outer} }, judge.Sound, []string{}},
		{"each audience must accept", "1.2,1.3", chainOf(nil),
			func(c *judge.Context) { c.Audiences = []*trust.Store{s.none, s.outer} }, judge.Faulty,
			[]string{"trust.audience-split fault none"}},
		{"with audiences only, they are the stores", "1.2,1.3", chainOf(nil),
			func(c *judge.Context) { c.Trust, c.Audiences = nil, []*trust.Store{s.outer} }, judge.Sound, []string{}},
		{"no audience accepts: one cause, one finding", "1.2,1.3", chainOf(nil),
			func(c *judge.Context) { c.Trust, c.Audiences = nil, []*trust.Store{s.none} }, judge.Faulty,
			[]string{"trust.unknown-anchor fault"}},
		{"anchor expired", "1.2,1.3", [][]byte{s.leaf(expiredRoot, nil)}, func(c *judge.Context) {
			c.Trust = []*trust.Store{trust.New("old", []trust.Anchor{{Certificate: s.parse(expiredRoot.DER),
				Kind: trust.Public}})}
		}, judge.Faulty, []string{"trust.anchor-expired fault"}},
		{"spoilt signature", "1.2,1.3", chainOf(func(w *forge.Template) { w.Spoilt = true }), nil, judge.Faulty,
			[]string{"chain.bad-signature fault"}},

		{"name not covered", "1.2,1.3", chainOf(func(w *forge.Template) { w.Names = []string{"*.tarnholm.test"} }), nil,
			judge.Faulty, []string{"name.uncovered fault " + host, "name.internal risk *.tarnholm.test"}},
		{"only the names that are given", "1.2,1.3", chainOf(nil),
			func(c *judge.Context) { c.Names = names(t, "pilots.tarnholm.example", host, "192.0.2.7") }, judge.Faulty,
			[]string{"name.uncovered fault 192.0.2.7", "name.uncovered fault pilots.tarnholm.example"}},

		{"RSA under 1024", "1.2,1.3", chainOf(func(w *forge.Template) { w.SPKI = short }), nil, judge.Faulty,
			[]string{"key.too-short fault"}},
		{"RSA under 2048", "1.2,1.3", chainOf(func(w *forge.Template) { w.SPKI = middling }), nil, judge.AtRisk,
			[]string{"key.too-short risk"}},
		{"SHA-1 below the anchor", "1.2,1.3", chainOf(func(w *forge.Template) { w.Sign = &forge.ECDSASHA1 }), nil,
			judge.Faulty, []string{"algo.weak-signature fault"}},
		{"cannot be computed: that alone", "1.2,1.3", chainOf(func(w *forge.Template) { w.Sign = &forge.Ed448 }), nil,
			judge.AtRisk, []string{"algo.unverifiable risk"}},

		{"1.0 to 1.3", "1.0,1.1,1.2,1.3", chainOf(nil), nil, judge.AtRisk,
			[]string{"proto.obsolete risk TLS 1.0", "proto.obsolete risk TLS 1.1"}},
		{"SSL 3.0 is a fault", "SSL 3.0,1.2,1.3", chainOf(nil), nil, judge.Faulty,
			[]string{"proto.obsolete fault SSL 3.0"}},
		{"1.1 only: without-tls13 is not said beside none-current", "1.1", chainOf(nil), nil, judge.Faulty,
			[]string{"proto.none-current fault versions", "proto.obsolete risk TLS 1.1"}},
		{"none at all", "", nil, nil, judge.Faulty, []string{"proto.none-current fault versions"}},
		{"1.2 only", "1.2", chainOf(nil), nil, judge.Sound, []string{"proto.without-tls13 note TLS 1.3"}},
		{"1.3 only", "1.3", chainOf(nil), nil, judge.Sound, []string{"proto.without-tls12 note TLS 1.2"}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			context := s.context()
			if tt.change != nil {
				tt.change(&context)
			}
			j := judge.Endpoint(observed(served(tt.versions, tt.chain...)), context)
			assert.Equal(t, tt.want, codes(j))
			assert.Equal(t, tt.verdict, j.Verdict)
			for _, f := range j.Findings {
				assert.NotEmpty(t, f.Remedy, "a finding without a next step is not finished")
				assert.NotEmpty(t, f.Message)
				assert.Equal(t, []string{"192.0.2.7:443"}, f.Addresses)
			}
		})
	}
}

func names(t *testing.T, texts ...string) []naming.Reference {
	t.Helper()
	var out []naming.Reference
	for _, text := range texts {
		r, err := naming.Parse(text)
		require.NoError(t, err)
		out = append(out, r)
	}
	return out
}

func TestReach(t *testing.T) {
	s := newScene(t)
	good := served("1.2,1.3", s.leaf(s.lower, nil), s.lower.DER, s.upper.DER)
	at := func(address string, outcome facts.Outcome) facts.Observation {
		return facts.Observation{Address: netip.MustParseAddrPort(address), Outcome: outcome,
			Detail: facts.Because(facts.ConnectRefused)}
	}
	tests := []struct {
		name    string
		facts   facts.Endpoint
		verdict judge.Verdict
		want    []string
	}{
		{"refused", observed(at("192.0.2.1:443", facts.Refused)), judge.Unreachable,
			[]string{"reach.refused none tides.tarnholm.example:443"}},
		{"silent", observed(at("192.0.2.1:443", facts.Timeout)), judge.Unreachable,
			[]string{"reach.timeout none tides.tarnholm.example:443"}},
		{"reset", observed(at("192.0.2.1:443", facts.Reset)), judge.Unreachable,
			[]string{"reach.reset none tides.tarnholm.example:443"}},
		{"refused here, silent there", observed(at("192.0.2.1:443", facts.Refused), at("192.0.2.2:443", facts.Timeout)),
			judge.Unreachable,
			[]string{"reach.refused none tides.tarnholm.example:443", "reach.timeout none tides.tarnholm.example:443"}},
		{"some addresses only", observed(good, at("192.0.2.2:443", facts.Refused)), judge.AtRisk,
			[]string{"reach.address-refused risk 192.0.2.2:443"}},
		{"another protocol", observed(at("192.0.2.1:443", facts.NotTLS)), judge.Faulty,
			[]string{"reach.not-tls fault tides.tarnholm.example:443"}},
		{"undecodable", observed(at("192.0.2.1:443", facts.BadMessage)), judge.Faulty,
			[]string{"reach.bad-message fault tides.tarnholm.example:443"}},
		{"a version that nothing was shown of is not called missing", observed(notShown(good, "TLS 1.2", "TLS 1.3")),
			judge.Sound, []string{}},
		{"one of the two is enough to say so", observed(notShown(good, "TLS 1.3")), judge.Sound, []string{}},
		{"no address", facts.Endpoint{Endpoint: host + ":443", ResolveError: facts.Because(facts.NoAddress, host)},
			judge.Unreachable, []string{"dns.unresolved risk tides.tarnholm.example"}},
		{"garbled in one version", observed(garbled(good)), judge.Faulty, []string{"reach.bad-message fault TLS 1.1"}},
		{"a certificate that cannot be decoded", observed(served("1.2,1.3", []byte{1, 2, 3})), judge.Faulty,
			[]string{"reach.bad-message fault certificate 1"}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			j := judge.Endpoint(tt.facts, s.context())
			assert.Equal(t, tt.want, codes(j))
			assert.Equal(t, tt.verdict, j.Verdict)
		})
	}
}

func notShown(o facts.Observation, names ...string) facts.Observation {
	versions := append([]facts.Version{}, o.Versions...)
	for i := range versions {
		if slices.Contains(names, versions[i].Name) {
			versions[i].Answer = facts.NotShown
		}
	}
	o.Versions = versions
	return o
}

func garbled(o facts.Observation) facts.Observation {
	versions := append([]facts.Version{}, o.Versions...)
	for i := range versions {
		if versions[i].Name == "TLS 1.1" {
			versions[i].Answer, versions[i].Detail = facts.Garbled, facts.Because(facts.Undecodable, "nonsense")
		}
	}
	o.Versions = versions
	return o
}

func TestSameFindingOnSeveralAddressesIsOne(t *testing.T) {
	s := newScene(t)
	a := served("1.2,1.3", s.leaf(s.lower, func(w *forge.Template) { w.Until = now.AddDate(0, 0, -1) }), s.lower.DER,
		s.upper.DER)
	b := a
	b.Address = netip.MustParseAddrPort("192.0.2.8:443")
	j := judge.Endpoint(observed(a, b), s.context())
	require.Len(t, j.Findings, 1)
	assert.Equal(t, []string{"192.0.2.7:443", "192.0.2.8:443"}, j.Findings[0].Addresses)
	require.Len(t, j.Chains, 1, "equal chains are drawn once")
	assert.Equal(t, []string{"192.0.2.7:443", "192.0.2.8:443"}, j.Chains[0].Addresses)
}

func TestIncompleteBringsTheMissingCertificates(t *testing.T) {
	s := newScene(t)
	context := s.context()
	context.Known = s.known(s.lower.DER, s.upper.DER)
	j := judge.Endpoint(observed(served("1.2,1.3", s.leaf(s.lower, nil))), context)
	require.Len(t, j.Findings, 1)
	e := j.Findings[0].Evidence
	assert.Equal(t, []string{s.parse(s.lower.DER).PEM(), s.parse(s.upper.DER).PEM()}, e.MissingPEM)
	assert.Equal(t, []string{host, "Lower", "Upper"}, e.Order)
	assert.Contains(t, j.Findings[0].Remedy, "Lower, then Upper")
	assert.Equal(t, "Lower, Upper", judge.CauseOf(j.Findings[0]).About)
}

// TestSameInputSameOutput judges facts that went through their JSON form.
func TestSameInputSameOutput(t *testing.T) {
	s := newScene(t)
	e := observed(served("1.0,1.2", s.leaf(s.lower, nil), s.upper.DER, s.lower.DER),
		facts.Observation{Address: netip.MustParseAddrPort("192.0.2.9:443"), Outcome: facts.Refused})
	data, err := json.Marshal(e)
	require.NoError(t, err)
	var again facts.Endpoint
	require.NoError(t, json.Unmarshal(data, &again))
	assert.Equal(t, judge.Endpoint(e, s.context()), judge.Endpoint(again, s.context()))
}

func TestIdentity(t *testing.T) {
	s := newScene(t)
	o := served("1.2,1.3", s.leaf(s.lower, func(w *forge.Template) { w.Until = now.AddDate(0, 0, 9) }), s.lower.DER,
		s.upper.DER)
	today, tomorrow := s.context(), s.context()
	tomorrow.At = now.AddDate(0, 0, 1)
	a, b := judge.Endpoint(observed(o), today).Findings[0], judge.Endpoint(observed(o), tomorrow).Findings[0]
	assert.NotEqual(t, a.Message, b.Message, "the count of days differs")
	assert.Equal(t, judge.Identity("t", a), judge.Identity("t", b))
	assert.NotEqual(t, judge.Identity("t", a), judge.Identity("u", a))
	other := a
	other.Subject = "another"
	assert.NotEqual(t, judge.Identity("t", a), judge.Identity("t", other))
}
