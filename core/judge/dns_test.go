package judge_test

import (
	"crypto/sha256"
	"crypto/sha512"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/judge"
	"nurvik/core/policy"
)

func sum256(data []byte) []byte { s := sha256.Sum256(data); return s[:] }
func sum512(data []byte) []byte { s := sha512.Sum512(data); return s[:] }

func TestRecords(t *testing.T) {
	s := newScene(t)
	der := s.leaf(s.lower, nil)
	leaf, lower := s.parse(der), s.parse(s.lower.DER)
	pin := func(usage, selector, matching uint8, data []byte) facts.TLSA {
		return facts.TLSA{Usage: usage, Selector: selector, Matching: matching, Data: data}
	}
	wrong := pin(3, 1, 1, sum256([]byte("another")))
	mismatch := []string{"dns.tlsa-mismatch fault _443._tcp." + host}
	tests := []struct {
		name     string
		tlsa     []facts.TLSA
		unsigned bool
		chain    [][]byte // nil for the whole
		want     []string
	}{
		{"the leaf's key", []facts.TLSA{pin(3, 1, 1, sum256(leaf.PublicKey.Raw))}, false, nil, []string{}},
		{"the leaf's key, SHA-512", []facts.TLSA{pin(3, 1, 2, sum512(leaf.PublicKey.Raw))}, false, nil, []string{}},
		{"the leaf itself", []facts.TLSA{pin(3, 0, 0, leaf.Raw)}, false, nil, []string{}},
		{"one that fits suffices", []facts.TLSA{wrong, pin(3, 0, 1, sum256(leaf.Raw))}, false, nil, []string{}},
		{"an issuer", []facts.TLSA{pin(2, 1, 1, sum256(lower.PublicKey.Raw))}, false, nil, []string{}},
		{"the anchor, which is not sent", []facts.TLSA{pin(0, 0, 1, sum256(s.root.DER))}, false, nil, []string{}},
		{"an issuer is no leaf", []facts.TLSA{pin(3, 1, 1, sum256(lower.PublicKey.Raw))}, false, nil, mismatch},
		{"another key", []facts.TLSA{wrong}, false, nil, mismatch},
		{"another key, and nobody validated that", []facts.TLSA{wrong}, true, nil, []string{}},
		{"forms that are not understood do not count", []facts.TLSA{pin(7, 1, 1, sum256(nil)), pin(3, 1, 9, []byte{1}),
			pin(3, 1, 1, []byte{1})}, false, nil, []string{}},
		{"a path that fails has a finding of its own", []facts.TLSA{pin(1, 1, 1, sum256(leaf.PublicKey.Raw))}, false,
			[][]byte{der}, []string{"chain.incomplete fault"}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			if tt.chain == nil {
				tt.chain = [][]byte{der, s.lower.DER, s.upper.DER}
			}
			e := observed(served("1.2,1.3", tt.chain...))
			e.DNS = &facts.DNS{TLSA: tt.tlsa, TLSAAt: "_443._tcp." + host, Validated: !tt.unsigned}
			context := s.context()
			context.Known = s.known(s.lower.DER, s.upper.DER)
			assert.Equal(t, tt.want, codes(judge.Endpoint(e, context)))
		})
	}
	t.Run("every address has to fit", func(t *testing.T) {
		e := observed(served("1.2,1.3", der, s.lower.DER, s.upper.DER),
			served("1.2,1.3", s.leaf(s.lower, nil), s.lower.DER, s.upper.DER))
		e.DNS = &facts.DNS{TLSA: []facts.TLSA{pin(3, 1, 1, sum256(leaf.PublicKey.Raw))}, TLSAAt: "_443._tcp." + host,
			Validated: true}
		assert.Contains(t, codes(judge.Endpoint(e, s.context())), mismatch[0])
	})
}

func TestAuthorization(t *testing.T) {
	s := newScene(t)
	forbids := []string{"dns.caa-forbids risk tarnholm.example"}
	tests := []struct {
		name string
		leaf string // its name
		caa  []facts.CAA
		want []string
	}{
		{"no record", host, nil, []string{}},
		{"an issuer", host, []facts.CAA{{Tag: "issue", Value: "outer.tarnholm.example"}}, []string{}},
		{"nobody", host, []facts.CAA{{Tag: "issue", Value: ";"}}, forbids},
		{"nobody, with words behind it", host, []facts.CAA{{Tag: "ISSUE", Value: " ; policy=none"}}, forbids},
		{"nobody, and an issuer", host, []facts.CAA{{Tag: "issue", Value: ";"},
			{Tag: "issue", Value: "outer.tarnholm.example; x=1"}}, []string{}},
		{"a report only", host, []facts.CAA{{Tag: "iodef", Value: "mailto:x@tarnholm.example"}}, []string{}},
		{"no wildcards, for a plain name", host, []facts.CAA{{Tag: "issuewild", Value: ";"}}, []string{}},
		{"no wildcards, for a wildcard", "*.tarnholm.example",
			[]facts.CAA{{Tag: "issue", Value: "outer.tarnholm.example"}, {Tag: "issuewild", Value: ";"}}, forbids},
		{"wildcards alone", "*.tarnholm.example", []facts.CAA{{Tag: "issue", Value: ";"},
			{Tag: "issuewild", Value: "outer.tarnholm.example"}}, []string{}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			e := observed(served("1.2,1.3", s.leaf(s.lower, func(w *forge.Template) { w.Names = []string{tt.leaf} }),
				s.lower.DER, s.upper.DER))
			e.DNS = &facts.DNS{CAA: tt.caa, CAAAt: "tarnholm.example"}
			assert.Equal(t, tt.want, codes(judge.Endpoint(e, s.context())))
		})
	}
}

// TestPolicyLists judges one endpoint by policies with lists of their own.
func TestPolicyLists(t *testing.T) {
	s := newScene(t)
	o := served("1.2,1.3", s.leaf(s.lower, nil), s.lower.DER, s.upper.DER)
	for i, v := range o.Versions {
		switch v.Name {
		case "TLS 1.3":
			o.Versions[i].Suites = []string{"TLS_AES_128_GCM_SHA256"}
		case "TLS 1.2":
			o.Versions[i].Suites = []string{"TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256",
				"TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA"}
		}
	}
	o.Groups = &facts.Groups{Accepted: []string{"X25519MLKEM768", "secp384r1"}}
	short := served("1.2", o.Certificates...)
	tests := []struct {
		name, policy string
		observation  facts.Observation
		want         []string
	}{
		{"nothing of its own", "", o, []string{}},
		{"versions allowed", "protocols: {allowed: [TLS 1.3]}", o, []string{"proto.obsolete risk TLS 1.2"}},
		{"a version required, and there", "protocols: {required: [TLS 1.3]}", o, []string{}},
		{"a version required, and missing", "protocols: {required: [TLS 1.3]}", short,
			[]string{"proto.without-tls13 fault TLS 1.3"}},
		{"suites allowed", `suites: {allowed: ["*_GCM_*"]}`, o, []string{"suite.weak-cipher risk suites"}},
		{"suites that are a fault", `suites: {fault: ["*_CBC_*"]}`, o, []string{"suite.weak-cipher fault suites"}},
		{"groups allowed", "groups: {allowed: [X25519MLKEM768]}", o, []string{"group.weak-parameters risk groups"}},
		{"keys allowed", "keys: {allowed: [RSA, P-384]}", o,
			[]string{"key.unusual note", "key.unusual note", "key.unusual note"}},
		{"names required", "names: {required: [www.tarnholm.example]}", o,
			[]string{"name.uncovered fault www.tarnholm.example"}},
		{"lifetimes", "lifetimes: {most-days: 100}", o, []string{"time.too-long risk"}},
		{"the public issuers' rules", "lifetimes: {public: [{from: 2026-01-01, days: 198}]}", o,
			[]string{"time.too-long risk"}},
		{"to the second", "lifetimes: {public: [{from: 2026-01-01, days: 199}]}", o, []string{}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			context := s.context()
			var err error
			context.Policy, err = policy.Parse("x.yaml", []byte("name: x\ninherits: open-web\n"+tt.policy+"\n"))
			require.NoError(t, err)
			j := judge.Endpoint(observed(tt.observation), context)
			assert.Equal(t, tt.want, codes(j))
			for _, f := range j.Findings {
				switch f.Code {
				case "suite.weak-cipher", "group.weak-parameters":
					assert.Contains(t, f.Message, "the policy does not allow")
					assert.Empty(t, f.Edits, "the usual lines would not repair it")
				case "proto.obsolete":
					assert.Contains(t, f.Message, "the policy does not allow")
					assert.Equal(t, "ssl_protocols TLSv1.3;", f.Edits[0].Line, "the line leaves what the policy allows")
					assert.Contains(t, f.Remedy, "keep TLS 1.3,")
				}
				assert.NotContains(t, f.Remedy, "RC4")
			}
		})
	}
}
