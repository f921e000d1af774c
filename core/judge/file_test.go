package judge_test

import (
	"math/big"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/judge"
)

func file(ders ...[]byte) facts.File {
	f := facts.File{Schema: facts.Schema, Path: "/srv/tides.pem"}
	for i, der := range ders {
		f.Items = append(f.Items, facts.Item{Kind: facts.Certificate, DER: der,
			Place: facts.Place{Line: 1 + 20*i, Offset: 1000 * i}})
	}
	return f
}

// TestTrustStoreFile: old roots that do not say that they are CAs are anchors
// among many, and a list of self-signed server certificates is none.
func TestTrustStoreFile(t *testing.T) {
	s := newScene(t)
	old := s.leaf(nil, func(w *forge.Template) { w.Name, w.Names, w.Until = "Old Root", nil, now.AddDate(0, 0, -3) })
	var roots, servers [][]byte
	for range 12 {
		roots = append(roots, s.authority(nil, forge.Template{Name: "Root"}).DER)
		servers = append(servers, s.leaf(nil, nil))
	}
	assert.Empty(t, codes(judge.File(file(append(roots, old)...), s.context())))
	assert.Contains(t, codes(judge.File(file(append(roots[:2], old)...), s.context())), "time.expired fault",
		"among few it is told")
	found := codes(judge.File(file(servers...), s.context()))
	assert.NotEmpty(t, found)
	assert.Contains(t, found[0], "trust.self-signed fault")
}

// TestOneCauseOneFinding: a foreign file is told once, with the places.
func TestOneCauseOneFinding(t *testing.T) {
	s := newScene(t)
	f := file()
	for i := range 30 {
		f.Defects = append(f.Defects, facts.Defect{Kind: facts.Damaged, Line: 10 * (i + 1),
			Reason: facts.Because(facts.BlockDamaged, "';' is no character of base64")})
	}
	f.Defects = append(f.Defects, facts.Defect{Kind: facts.Damaged, Line: 7, Reason: facts.Because(facts.LoneBegin)})
	j := judge.File(f, s.context())
	require.Len(t, j.Findings, 2, "one for each cause")
	places := j.Findings[0].Evidence.Observations
	assert.Len(t, places, 20)
	assert.Equal(t, "also at line 20", places[0])
	assert.Equal(t, "and at 10 more places", places[19])
}

// TestRemediesFitTheLimit: nobody splits a file because its compression is too dense.
func TestRemediesFitTheLimit(t *testing.T) {
	s := newScene(t)
	for code, want := range map[facts.Code]string{facts.NestedTooDeep: "inner archive", facts.EntryTooDense: "zeroes",
		facts.TooManyEntries: "name the directory", facts.FileOver64MiB: "Split the file"} {
		f := facts.File{Path: "a.zip", Defects: []facts.Defect{{Kind: facts.TooLarge, Reason: facts.Because(code, 2)}}}
		assert.Contains(t, judge.File(f, s.context()).Findings[0].Remedy, want)
	}
	costly := facts.File{Path: "a.p12", Items: []facts.Item{{Kind: facts.Keystore, Locked: facts.TooCostly}}}
	assert.Contains(t, judge.File(costly, s.context()).Findings[0].Remedy, "fewer rounds")
}

func TestFile(t *testing.T) {
	s := newScene(t)
	l := s.leaf(s.lower, nil)
	damaged := file(l, s.lower.DER)
	damaged.Defects = []facts.Defect{{Kind: facts.Damaged, Line: 41, Offset: 2000,
		Reason: facts.Because(facts.BlockCutOff)}}
	tests := []struct {
		name    string
		file    facts.File
		change  func(*judge.Context)
		verdict judge.Verdict
		want    []string
	}{
		{"full chain", file(l, s.lower.DER, s.upper.DER), nil, judge.Sound, []string{}},
		{"leaf only", file(l), func(c *judge.Context) { c.Known = s.known(s.lower.DER, s.upper.DER) }, judge.Faulty,
			[]string{"chain.incomplete fault"}},
		{"wrong order is a fault in a file", file(l, s.upper.DER, s.lower.DER), nil, judge.Faulty,
			[]string{"chain.wrong-order fault"}},
		{"leaf last", file(s.lower.DER, s.upper.DER, l), nil, judge.Faulty, []string{"chain.wrong-order fault"}},
		{"authorities only", file(s.upper.DER, s.root.DER), nil, judge.Sound, []string{}},
		{"no name is expected of a file", file(l, s.lower.DER, s.upper.DER), nil, judge.Sound, []string{}},
		{"unless one is given", file(l, s.lower.DER, s.upper.DER),
			func(c *judge.Context) { c.Names = names(t, "pilots.tarnholm.example") }, judge.Faulty,
			[]string{"name.uncovered fault pilots.tarnholm.example"}},
		{"damaged, which may be just what is missing", damaged, nil, judge.Faulty,
			[]string{"file.damaged fault damaged block 1"}},
		{"two leaves are two chains", file(l, s.leaf(s.lower,
			func(w *forge.Template) { w.Until = now.AddDate(0, 0, -1) }), s.lower.DER, s.upper.DER), nil, judge.Faulty,
			[]string{"time.expired fault", "file.never-used note file"}},
		{"malformed", file(s.leaf(s.lower, func(w *forge.Template) { w.Serial = big.NewInt(-1) }), s.lower.DER,
			s.upper.DER), nil, judge.AtRisk, []string{"file.malformed-certificate risk"}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			context := s.context()
			if tt.change != nil {
				tt.change(&context)
			}
			j := judge.File(tt.file, context)
			assert.Equal(t, tt.want, codes(j))
			assert.Equal(t, tt.verdict, j.Verdict)
			assert.Equal(t, "file", j.Kind)
		})
	}
	t.Run("places are named", func(t *testing.T) {
		f := judge.File(damaged, s.context()).Findings[0]
		assert.Equal(t, "line 41", f.About)
		assert.Equal(t, 41, f.Evidence.Line)
		require.NotNil(t, f.Evidence.Offset)
		assert.Equal(t, 2000, *f.Evidence.Offset)
	})
}
