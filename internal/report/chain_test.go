package report_test

import (
	"bytes"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/chain"
	"nurvik/core/judge"
	"nurvik/core/pki"
	"nurvik/internal/audit"
	"nurvik/internal/report"
)

// chainSample is a chain with everything that can be said of one.
func chainSample() *report.Chains {
	at := time.Date(2026, 11, 25, 10, 0, 0, 0, time.UTC)
	id := func(n byte) pki.Fingerprint { return pki.Fingerprint{n} }
	var certificates []pki.Description
	for i, name := range []string{"", "quay.tarnholm.example", "Skerry Outer Issuing", "Skerry Outer Services",
		"Skerry Outer Root", "Skerry Outer Services", "Skerry Second Root",
		"A certificate with a very long name that has nothing to do with the matter at all"} {
		certificates = append(certificates, pki.Description{Summary: pki.Summary{
			SHA256: id(byte(i)), Label: name, Key: "EC P-256", Serial: "0a", NotAfter: at.AddDate(0, 5*i, 0)}})
	}
	certificates[5].NotAfter = at.AddDate(0, 0, -10)
	link := func(n byte, role chain.Role, place chain.Place) chain.Link {
		return chain.Link{SHA256: id(n), Label: certificates[n].Label, Role: role, Place: place}
	}
	ends := at.AddDate(0, 5, 0)
	view := chain.View{Store: "outer",
		Given: []chain.Link{link(1, chain.Leaf, chain.InPlace), link(3, chain.Intermediate, chain.OutOfOrder),
			link(5, chain.Intermediate, chain.NotOnPath), link(7, chain.Intermediate, chain.NotOnPath),
			link(4, chain.Root, chain.AnchorSent)},
		Right: []chain.Link{link(1, chain.Leaf, chain.InPlace), link(2, chain.Intermediate, chain.Missing),
			link(3, chain.Intermediate, chain.InPlace), link(4, chain.Root, chain.AnchorHeld)}}
	good := judge.PathView{Certificates: []pki.Fingerprint{id(1), id(2), id(3), id(4)}, Anchor: "public", Valid: true,
		Borrowed: 1, Ends: &ends, EndsWith: "quay.tarnholm.example"}
	old := judge.PathView{Certificates: []pki.Fingerprint{id(1), id(2), id(5), id(6)}, Anchor: "public",
		Reason: "Skerry Outer Services expired on 2026-11-15 10:00 UTC", Borrowed: 1, Ends: &certificates[5].NotAfter,
		EndsWith: "Skerry Outer Services"}
	j := judge.Judgement{Target: "quay.tarnholm.example:443", Certificates: certificates,
		Chains: []judge.Chain{{Addresses: []string{"127.30.1.9:443"}, View: view,
			Audiences: []judge.Audience{{Store: "outer", Reason: `lacks "Skerry Outer Issuing"`,
				Paths: []judge.PathView{good}, More: 3},
				{Store: "second", Required: true, Reason: "Skerry Outer Services expired on 2026-11-15 10:00 UTC",
					Paths: []judge.PathView{old}}},
			Revocation: []judge.RevocationState{{Label: "quay.tarnholm.example", State: "good",
				Words: "the CRL: good, until 2026-12-02 10:00 UTC"}}}},
		Findings: []judge.Finding{
			{Code: "chain.incomplete", Severity: judge.Fault,
				Message: `The chain of quay.tarnholm.example lacks "Skerry Outer Issuing"; clients that do not have it stored cannot build the path.`, Remedy: "Put the certificate file together anew and reload the server."},
			{Code: "proto.without-tls13", Severity: judge.Note, Message: "TLS 1.3 is not accepted.",
				Remedy: "Allow it."}}}
	return report.NewChains(&audit.Report{At: at, Targets: []audit.Target{{Judgement: j}},
		Unexamined: []audit.Unexamined{{Target: "none.pem", Reason: "no such file or directory"}}})
}

func TestChainDrawing(t *testing.T) {
	for name, width := range map[string]int{"wide": 120, "narrow": 80} {
		t.Run(name, func(t *testing.T) {
			var out bytes.Buffer
			require.NoError(t, report.Chain(chainSample()).Text(&out, report.Style{Width: width}))
			golden(t, filepath.Join("testdata", "chain-"+name+".txt"), out.String())
			for line := range strings.Lines(out.String()) {
				assert.LessOrEqual(t, len([]rune(strings.TrimRight(line, "\n"))), width, line)
			}
			assert.NotContains(t, out.String(), "proto.", "what is no matter of chains is left to the audit")
		})
	}
}

func TestChainAnswer(t *testing.T) {
	c := chainSample()
	assert.False(t, c.Yes(), "what was given is not enough")
	assert.True(t, c.Reaches(judge.Fault))
	assert.False(t, c.Unverifiable())
	tests := []struct {
		name   string
		stores []judge.Audience
		want   bool
	}{
		{"one alternative is enough", []judge.Audience{{Trusted: true}, {}}, true},
		{"none accepts", []judge.Audience{{}, {}}, false},
		{"every audience must", []judge.Audience{{Required: true, Trusted: true}, {Required: true}}, false},
		{"audiences alone are the stores", []judge.Audience{{Required: true, Trusted: true}}, true},
		{"an audience does not stand for an alternative", []judge.Audience{{Required: true, Trusted: true}, {}}, false},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			j := judge.Judgement{Certificates: []pki.Description{{}},
				Chains: []judge.Chain{{View: chain.View{Right: []chain.Link{{}}}, Audiences: tt.stores}}}
			assert.Equal(t, tt.want, report.NewChains(&audit.Report{Targets: []audit.Target{{Judgement: j}}}).Yes())
			j.Findings = []judge.Finding{{Code: "name.uncovered"}}
			assert.False(t, report.NewChains(&audit.Report{Targets: []audit.Target{{Judgement: j}}}).Yes(),
				"a name that is not covered is a no")
		})
	}
}
