package judge_test

import (
	"bytes"
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/forge/maze"
	"nurvik/core/intake"
	"nurvik/core/judge"
	"nurvik/core/trust"
)

// about are the findings of some areas, without their severities.
func about(j judge.Judgement, areas ...string) []string {
	out := []string{}
	for _, f := range j.Findings {
		for _, area := range areas {
			if strings.HasPrefix(f.Code, area) && f.Severity != judge.Note {
				out = append(out, f.Code)
			}
		}
	}
	return out
}

// TestMazes judges hostile files. The benchmark judges them all; here are those that end soon.
func TestMazes(t *testing.T) {
	tests := map[string][]string{
		"999 policies in six layers, each mapped to 30 others": {"chain.wrong-order",
			"trust.policy"}, // followed to the end
		"12 layers of 10 authorities that all certify each other": {"chain.gave-up"},
		"20,000 names below 20,000 name constraints":              {"chain.gave-up"},
		"40 intermediates below each other":                       {"chain.gave-up"},
	}
	met := 0
	for place, name := range maze.Names() {
		want, chosen := tests[name]
		if !chosen {
			continue
		}
		met++
		t.Run(name, func(t *testing.T) {
			m, err := maze.Make(place, now)
			require.NoError(t, err)
			files, err := new(intake.Reader).Read("maze.pem", bytes.NewReader(m.PEM))
			require.NoError(t, err)
			anchor, err := trust.ParseAnchor(m.Root, trust.Private)
			require.NoError(t, err)
			c := newScene(t).context()
			c.Trust = []*trust.Store{trust.New("maze", []trust.Anchor{anchor})}
			assert.Equal(t, want, about(judge.File(files[0], c), "chain.", "trust."))
		})
	}
	assert.Equal(t, len(tests), met)
}

// TestLongChains: up to thirty certificates are a path; beyond, nobody knows.
func TestLongChains(t *testing.T) {
	s := newScene(t)
	for between, want := range map[int][]string{10: {}, 28: {}, 29: {"chain.gave-up"}} {
		below, chain := s.root, [][]byte(nil)
		for i := range between {
			below = s.authority(below, forge.Template{Name: fmt.Sprintf("Step %d", i)})
			chain = append([][]byte{below.DER}, chain...)
		}
		j := judge.File(file(append([][]byte{s.leaf(below, nil)}, chain...)...), s.context())
		assert.Equal(t, want, about(j, "chain.", "trust."), "%d intermediates", between)
	}
}

// fading is a context that ends when it has been asked so often.
type fading struct {
	context.Context
	left *int
}

func (f fading) Err() error {
	if *f.left--; *f.left < 0 {
		return context.Canceled
	}
	return nil
}

// TestInterruptedJudging: wherever it is interrupted, nothing is said that would not be said with more time, and what
// is
// not known is told.
func TestInterruptedJudging(t *testing.T) {
	s := newScene(t)
	other := s.authority(nil, forge.Template{Name: "Other"})
	second := trust.New("second", []trust.Anchor{{Certificate: s.parse(other.DER), Kind: trust.Private}})
	sibling := s.authority(s.upper, forge.Template{Name: "Lower"})
	zero := 0
	narrow := s.authority(s.root, forge.Template{Name: "Narrow", Length: &zero})
	branch := s.authority(narrow, forge.Template{Name: "Branch"})
	excluding := []byte{0x30, 13, 0xa1, 11, 0x30, 9, 0x82, 7, 'e', 'x', 'a', 'm', 'p', 'l', 'e'}
	inland := s.authority(s.root, forge.Template{Name: "Inland",
		Extra: []forge.Extension{{ID: []int{2, 5, 29, 30}, Critical: true, Value: excluding}}})
	split := func(c *judge.Context) { c.Audiences = []*trust.Store{s.outer, second} }
	borrowing := func(c *judge.Context) { c.Known = s.known(s.lower.DER, s.upper.DER) }
	tests := map[string]struct {
		file    facts.File
		context func(*judge.Context)
	}{
		"sound":          {file(s.leaf(s.lower, nil), s.lower.DER, s.upper.DER), nil},
		"incomplete":     {file(s.leaf(s.lower, nil)), borrowing},
		"no anchor":      {file(s.leaf(other, nil)), nil},
		"for rehearsal":  {file(s.leaf(s.rehearsal, nil)), nil},
		"self-signed":    {file(s.leaf(nil, nil)), nil},
		"a sibling":      {file(s.leaf(s.lower, nil), sibling.DER, s.upper.DER), nil},
		"too many below": {file(s.leaf(branch, nil), branch.DER, narrow.DER), nil},
		"a broken one":   {file(s.leaf(s.root, func(w *forge.Template) { w.Spoilt = true })), nil},
		"audiences":      {file(s.leaf(s.lower, nil), s.lower.DER, s.upper.DER), split},
		"several leaves": {file(s.leaf(other, nil), s.leaf(s.lower, nil), s.leaf(nil, nil), s.lower.DER,
			s.upper.DER), nil},
		"names not allowed": {file(s.leaf(inland, nil), inland.DER), nil},
	}
	for name, tt := range tests {
		t.Run(name, func(t *testing.T) {
			judged := func(steps int) judge.Judgement {
				c := s.context()
				if tt.context != nil {
					tt.context(&c)
				}
				c.Run = fading{t.Context(), &steps}
				return judge.File(tt.file, c)
			}
			full := about(judged(1_000_000), "chain.", "trust.")
			for steps := 0; ; steps++ {
				j := judged(steps)
				if j.Verdict == "" {
					continue // it was not its turn
				}
				got := about(j, "chain.", "trust.")
				lost := false
				for _, code := range got {
					lost = lost || code == "chain.gave-up"
					assert.Contains(t, append(full, "chain.gave-up"), code, "after %d steps", steps)
				}
				if !lost {
					assert.Equal(t, full, got, "after %d steps", steps)
				}
				if !lost && steps > 200 || t.Failed() {
					break
				}
			}
		})
	}
}
