package judge_test

import (
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/judge"
	"nurvik/core/pki"
	"nurvik/core/policy"
)

func TestWire(t *testing.T) {
	s := newScene(t)
	chain := [][]byte{s.leaf(s.lower, nil), s.lower.DER, s.upper.DER}
	other := s.leaf(s.lower, func(w *forge.Template) {
		w.Name, w.Names = "mall.tarnholm.example",
			[]string{"mall.tarnholm.example"}
	})
	late := s.leaf(s.lower, func(w *forge.Template) { w.Until = now.AddDate(0, 0, -1) })
	placeholder := s.leaf(nil, func(w *forge.Template) { w.Name, w.Names = "placeholder", nil })
	with := func(leaf []byte) [][]byte { return [][]byte{leaf, s.lower.DER, s.upper.DER} }
	cut := facts.Because(facts.StoppedAnswering, 6, "the connection was closed without an answer")
	const gcm, cbc, rsa, des3, rc4, des = "TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256",
		"TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA", "TLS_RSA_WITH_AES_128_GCM_SHA256",
		"TLS_ECDHE_RSA_WITH_3DES_EDE_CBC_SHA", "TLS_RSA_WITH_RC4_128_SHA", "TLS_DHE_RSA_WITH_DES_CBC_SHA"
	suites := func(order facts.Order, names ...string) func(*facts.Observation) {
		return func(o *facts.Observation) {
			for i := range o.Versions {
				if o.Versions[i].Name == "TLS 1.2" {
					o.Versions[i].Suites, o.Versions[i].Order = names, order
				}
			}
		}
	}
	settings := func(change func(*facts.Settings)) func(*facts.Observation) {
		return func(o *facts.Observation) {
			o.Settings = &facts.Settings{RenegotiationInfo: facts.Yes, ExtendedMasterSecret: facts.Yes,
				Heartbeat: facts.No, Compression: facts.No, ToleratesUnknown: facts.Yes, ToleratesLarge: facts.Unknown}
			change(o.Settings)
		}
	}
	groups := func(g facts.Groups) func(*facts.Observation) { return func(o *facts.Observation) { o.Groups = &g } }
	web := func(h facts.HTTP) func(*facts.Observation) { return func(o *facts.Observation) { o.HTTP = &h } }
	tests := []struct {
		name   string
		change func(*facts.Observation)
		want   []string
	}{
		{"good suites", suites(facts.ServerOrder, gcm, cbc), []string{}},
		{"3DES last, in the server's order", suites(facts.ServerOrder, gcm, des3),
			[]string{"suite.weak-cipher risk suites"}},
		{"3DES first", suites(facts.ServerOrder, des3, gcm),
			[]string{"suite.weak-cipher risk suites", "suite.weak-first risk TLS 1.2"}},
		{"3DES, and the client decides", suites(facts.ClientOrder, gcm, des3),
			[]string{"suite.client-decides risk TLS 1.2", "suite.weak-cipher risk suites"}},
		{"the client decides among good ones", suites(facts.ClientOrder, gcm, cbc), []string{}},
		{"RC4 without forward secrecy", suites(facts.ServerOrder, gcm, rc4),
			[]string{"suite.weak-cipher risk suites", "suite.no-forward-secrecy note suites"}},
		{"single DES", suites(facts.ServerOrder, gcm, des), []string{"suite.weak-cipher fault suites"}},
		{"no forward secrecy at all", suites("", rsa), []string{"suite.no-forward-secrecy risk suites"}},
		{"null, anonymous and export are told once each",
			suites(facts.ServerOrder, gcm, "TLS_RSA_WITH_NULL_SHA", "TLS_DH_anon_WITH_RC4_128_MD5",
				"TLS_RSA_EXPORT_WITH_DES40_CBC_SHA"),
			[]string{"suite.anonymous fault suites", "suite.export fault suites", "suite.null fault suites"}},
		{"suites that are not known are passed over", suites(facts.ServerOrder, gcm, "suite 0xfafa",
			"SSL2_RC4_128_WITH_MD5"), []string{}},

		{"a prime of 1024 bits", groups(facts.Groups{FiniteField: &facts.FiniteField{Bits: 1024}}),
			[]string{"group.weak-parameters risk finite field"}},
		{"a prime of 1023 bits", groups(facts.Groups{FiniteField: &facts.FiniteField{Bits: 1023}}),
			[]string{"group.weak-parameters fault finite field"}},
		{"a prime of 2048 bits", groups(facts.Groups{FiniteField: &facts.FiniteField{Bits: 2048, Name: "ffdhe2048"}}),
			[]string{}},
		{"no hybrid", groups(facts.Groups{Accepted: []string{"x25519", "secp256r1"}}),
			[]string{"group.no-hybrid note groups"}},
		{"a hybrid", groups(facts.Groups{Accepted: []string{"x25519", "X25519MLKEM768"}}), []string{}},
		{"a lattice alone is no hybrid", groups(facts.Groups{Accepted: []string{"MLKEM768"}}),
			[]string{"group.no-hybrid note groups"}},

		{"compression", settings(func(s *facts.Settings) { s.Compression = facts.Yes }),
			[]string{"proto.compression fault compression"}},
		{"renegotiation", settings(func(s *facts.Settings) { s.RenegotiationInfo = facts.No }),
			[]string{"proto.no-renegotiation-info risk renegotiation"}},
		{"what was not shown is not missing", settings(func(s *facts.Settings) {
			s.RenegotiationInfo,
				s.ExtendedMasterSecret = facts.Unknown, facts.Unknown
		}), []string{}},
		{"master secret and heartbeat", settings(func(s *facts.Settings) {
			s.ExtendedMasterSecret,
				s.Heartbeat = facts.No, facts.Yes
		}), []string{"proto.heartbeat note heartbeat", "proto.no-extended-master-secret note extended master secret"}},
		{"intolerant in two ways", settings(func(s *facts.Settings) {
			s.ToleratesUnknown, s.ToleratesLarge = facts.No,
				facts.No
		}), []string{"proto.intolerant risk large hellos", "proto.intolerant risk unknown values"}},
		{"not offered", settings(func(s *facts.Settings) { s.NotOffered = "TLS 1.1" }),
			[]string{"proto.answer-not-offered fault hello"}},
		{"without the key", func(o *facts.Observation) {
			settings(func(*facts.Settings) {})(o)
			o.Possession = facts.PossessionFailed
		}, []string{"pair.possession-failed fault"}},
		{"a key that was not shown", func(o *facts.Observation) {
			settings(func(*facts.Settings) {})(o)
			o.Possession = facts.PossessionNotShown
		}, []string{}},

		{"another default", func(o *facts.Observation) {
			o.Others = []facts.Served{{To: "no-name", Certificates: with(other)},
				{To: "foreign-name", Certificates: with(other)}}
		}, []string{"deploy.default-name-differs note default"}},
		{"another certificate for the same names", func(o *facts.Observation) {
			o.Others = []facts.Served{{To: "no-name", Certificates: with(s.leaf(s.lower, nil))}}
		}, []string{}},
		{"a placeholder for names that are not known", func(o *facts.Observation) {
			o.Others = []facts.Served{{To: "foreign-name", Certificates: [][]byte{placeholder}}}
		}, []string{"deploy.default-name-differs note default"}},
		{"an incomplete chain without SNI", func(o *facts.Observation) {
			o.Others = []facts.Served{{To: "no-name", Certificates: chain[:1]}}
		}, []string{"chain.incomplete fault"}},
		{"an expired leaf without SNI", func(o *facts.Observation) {
			o.Others = []facts.Served{{To: "no-name", Certificates: with(late)}}
		}, []string{"time.expired fault"}},
		{"a refusal without a name", func(o *facts.Observation) {
			o.Others = []facts.Served{{To: "no-name", Refused: facts.Because(facts.Alert, "unrecognized_name")}}
		}, []string{}},
		{"another kind of key", func(o *facts.Observation) {
			o.Others = []facts.Served{{To: "other-key", Key: "RSA", Certificates: with(s.leaf(s.lower, nil))}}
		}, []string{}},
		{"another kind of key, expired", func(o *facts.Observation) {
			o.Others = []facts.Served{{To: "other-key", Key: "RSA", Certificates: with(late)}}
		}, []string{"time.expired fault"}},
		{"another kind of key, for another name", func(o *facts.Observation) {
			o.Others = []facts.Served{{To: "other-key", Key: "RSA", Certificates: with(other)}}
		}, []string{"name.uncovered fault " + host}},
		{"another kind of key that was not proven", func(o *facts.Observation) {
			o.Others = []facts.Served{{To: "other-key", Key: "RSA", Certificates: with(s.leaf(s.lower, nil)),
				Possession: facts.PossessionFailed}}
		}, []string{"pair.possession-failed fault"}},
		{"the same fault in both", func(o *facts.Observation) {
			o.Certificates = chain[:1]
			o.Others = []facts.Served{{To: "no-name", Certificates: chain[:1]}}
		}, []string{"chain.incomplete fault"}},

		{"groups that were not asked to the end", func(o *facts.Observation) {
			o.Groups = &facts.Groups{Accepted: []string{"x25519"}, Cut: cut}
		}, []string{"reach.cut-short risk " + host + ":443"}},
		{"suites that were not asked to the end", func(o *facts.Observation) {
			o.Versions[1].Suites, o.Versions[1].Cut = []string{"TLS_RSA_WITH_AES_128_GCM_SHA256"}, cut
		}, []string{"reach.cut-short risk " + host + ":443"}},
		{"a version that was not asked", func(o *facts.Observation) {
			o.Cut, o.Versions = cut, []facts.Version{{Name: "TLS 1.2", Answer: facts.Accepted},
				{Name: "TLS 1.3", Answer: facts.NotShown, Detail: cut}}
		}, []string{"reach.cut-short risk " + host + ":443"}},
		{"a version for which no connection was left", func(o *facts.Observation) {
			o.Versions = append(o.Versions, facts.Version{Name: "TLS 1.1", Answer: facts.NotShown,
				Detail: facts.Because(facts.EnoughAsked, 10, 10)})
		}, []string{"reach.cut-short risk " + host + ":443"}},
		{"the time of the visit", func(o *facts.Observation) {
			o.Cut = facts.Because(facts.TimeOver, "2m0s", 30)
			o.Versions[0].Cut = o.Cut
		}, []string{"reach.too-slow risk " + host + ":443"}},
		{"newer versions are not understood", func(o *facts.Observation) {
			o.Settings = &facts.Settings{ToleratesNewer: facts.No}
		}, []string{"proto.intolerant risk newer versions"}},

		{"no strict transport", web(facts.HTTP{Status: 200}), []string{"http.no-strict-transport note " + host}},
		{"strict transport", web(facts.HTTP{Status: 200, StrictTransportSecurity: "max-age=1"}), []string{}},
		{"no HTTP answered", web(facts.HTTP{}), []string{}},
		{"plain stays plain", web(facts.HTTP{Plain: &facts.Plain{Status: 200}}),
			[]string{"http.no-redirect note " + host}},
		{"plain leads elsewhere in plain", web(facts.HTTP{Plain: &facts.Plain{Status: 301,
			Location: "http://x.example/"}}), []string{"http.no-redirect note " + host}},
		{"plain leads to HTTPS", web(facts.HTTP{Plain: &facts.Plain{Status: 301, Location: "HTTPS://x.example/"}}),
			[]string{}},
		{"no plain port", web(facts.HTTP{Plain: &facts.Plain{Failure: facts.Because(facts.NothingAnswers)}}),
			[]string{}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			o := served("1.2,1.3", chain...)
			tt.change(&o)
			j := judge.Endpoint(observed(o), s.context())
			assert.Equal(t, tt.want, codes(j))
			for _, f := range j.Findings {
				assert.NotEmpty(t, f.Remedy, f.Code)
			}
		})
	}
	t.Run("addresses that differ", func(t *testing.T) {
		one, two := served("1.2,1.3", chain...), served("1.2", append([][]byte{s.leaf(s.lower, nil)}, chain[1:]...)...)
		two.Address = netip.MustParseAddrPort("192.0.2.8:443")
		j := judge.Endpoint(observed(one, two), s.context())
		assert.Equal(t, []string{"deploy.addresses-differ risk certificates", "deploy.addresses-differ risk versions",
			"proto.without-tls13 note TLS 1.3"}, codes(j))
		// Each address has both kinds of key, and was met with another first.
		one, two = served("1.2,1.3", chain...), served("1.2,1.3", append([][]byte{other}, chain[1:]...)...)
		one.Others, two.Others = []facts.Served{{To: "other-key", Certificates: [][]byte{other}}},
			[]facts.Served{{To: "other-key", Certificates: chain[:1]}}
		two.Address = netip.MustParseAddrPort("192.0.2.8:443")
		j = judge.Endpoint(observed(one, two), s.context())
		assert.False(t, slices.Contains(codes(j), "deploy.addresses-differ risk certificates"))
	})
	t.Run("an answer without end", func(t *testing.T) {
		o := served("")
		o.Outcome, o.Detail = facts.TooMuch, facts.Because(facts.Endless, "9 warning alerts came")
		j := judge.Endpoint(observed(o), s.context())
		require.Len(t, j.Findings, 1)
		assert.Equal(t, "reach.too-much", j.Findings[0].Code)
		assert.Equal(t, judge.AtRisk, j.Verdict)
	})
}

func TestPolicySettles(t *testing.T) {
	s := newScene(t)
	parse := func(text string) policy.Policy {
		p, err := policy.Parse("x.yaml", []byte("name: x\ninherits: open-web\n"+text))
		require.NoError(t, err)
		return p
	}
	judged := func(p policy.Policy, at time.Time) judge.Judgement {
		context := s.context()
		context.Policy, context.At = p, at
		return judge.Endpoint(observed(served("1.0,1.2", s.leaf(s.lower, nil), s.lower.DER, s.upper.DER)), context)
	}
	assert.Equal(t, []string{"proto.obsolete risk TLS 1.0", "proto.without-tls13 note TLS 1.3"},
		codes(judged(parse(""), now)))
	j := judged(parse("severities: {proto.*: fault, proto.without-tls13: \"off\"}\n"), now)
	assert.Equal(t, []string{"proto.obsolete fault TLS 1.0"}, codes(j))
	assert.Equal(t, judge.Faulty, j.Verdict)
	waived := parse("waivers: [{code: proto.obsolete, target: \"" + host +
		":443\", reason: the cranes need it, until: 2026-12-31}]\n")
	j = judged(waived, now)
	assert.Equal(t, judge.Sound, j.Verdict)
	assert.Equal(t, "the cranes need it", j.Findings[0].Waived.Reason)
	assert.Equal(t, judge.AtRisk, judged(waived, now.AddDate(0, 2, 0)).Verdict, "not for ever")

	assert.NoError(t, judge.CheckPolicy(waived))
	for _, name := range policy.Names() {
		p, err := policy.Builtin(name)
		require.NoError(t, err)
		assert.NoError(t, judge.CheckPolicy(p), name)
	}
	assert.ErrorContains(t, judge.CheckPolicy(parse("severities: {proto.absolete: note}\n")), "proto.")
	assert.ErrorContains(t, judge.CheckPolicy(parse("severities: {weather.*: note}\n")), "no area")
}

// TestOtherChainsAreAskedAbout: a leaf with another kind of key is asked about and judged like the first.
func TestOtherChainsAreAskedAbout(t *testing.T) {
	s := newScene(t)
	first, second := s.leaf(s.lower, nil), s.leaf(s.lower, nil)
	o := served("1.2,1.3", first, s.lower.DER, s.upper.DER)
	o.Others = []facts.Served{
		{To: "other-key", Key: "RSA", Certificates: [][]byte{second, s.lower.DER, s.upper.DER}},
		{To: "no-name", Certificates: [][]byte{s.leaf(s.lower, nil), s.lower.DER, s.upper.DER}}}
	e := observed(o)
	questions, _ := judge.Questions(e, s.context())
	asked := map[pki.Fingerprint]bool{}
	for _, q := range questions {
		asked[q.Certificate.Fingerprint()] = true
	}
	assert.True(t, asked[pki.FingerprintOf(first)])
	assert.True(t, asked[pki.FingerprintOf(second)])
	assert.False(t, asked[pki.FingerprintOf(o.Others[1].Certificates[0])], "nobody asks about another's")
	at := now.AddDate(0, 0, -1)
	e.RevocationAsked = true
	e.Revocation = []facts.Revocation{{Certificate: pki.FingerprintOf(second), Source: facts.FromList,
		Status: facts.RevocationRevoked, RevokedAt: &at, At: now}}
	j := judge.Endpoint(e, s.context())
	assert.Equal(t, judge.Faulty, j.Verdict)
	require.NotEmpty(t, j.Findings)
	assert.Equal(t, "revoke.revoked", j.Findings[0].Code)
	assert.Contains(t, j.Findings[0].Message, "clients that accept only RSA certificates get")
}
