package judge_test

import (
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"nurvik/core/facts"
	"nurvik/core/judge"
)

// TestVantages: what vantages see is compared as far as it is known, and never from what was not seen.
func TestVantages(t *testing.T) {
	s := newScene(t)
	chain := [][]byte{s.leaf(s.lower, nil), s.lower.DER, s.upper.DER}
	renewed := append([][]byte{s.leaf(s.lower, nil)}, chain[1:]...)
	at := func(o facts.Observation, vantage, address string) facts.Observation {
		o.Vantage, o.Address = vantage, netip.MustParseAddrPort(address)
		return o
	}
	const a, b = "192.0.2.7:443", "198.51.100.7:443"
	silent := facts.Observation{Outcome: facts.Timeout, Detail: facts.Because(facts.NothingAnswers)}
	broken := served("1.2,1.3", renewed...)
	broken.Cut = facts.Because(facts.StoppedAnswering)
	nowhere := []facts.Vantage{{Name: "inside"}, {Name: "outside", ResolveError: facts.Because(facts.NoAddress, host)}}
	absent := []facts.Vantage{{Name: "inside"}, {Name: "outside", Unvisited: "no worker"}}
	for _, c := range []struct {
		name      string
		seen      []facts.Observation
		vantages  []facts.Vantage
		unvisited []string
		want      []string // subjects
		says      string
	}{
		{name: "alike", seen: []facts.Observation{at(served("1.2,1.3", chain...), "inside", a),
			at(served("1.2,1.3", chain...), "outside", b)}},
		{name: "another certificate", seen: []facts.Observation{at(served("1.2,1.3", chain...), "inside", a),
			at(served("1.2,1.3", renewed...), "outside", a)}, want: []string{"certificates"},
			says: "Visited from outside, it serves other certificates than from inside."},
		{name: "other versions", seen: []facts.Observation{at(served("1.2,1.3", chain...), "inside", a),
			at(served("1.3", chain...), "outside", b)}, want: []string{"versions"}},
		{name: "both certificates at both", seen: []facts.Observation{at(served("1.2,1.3", chain...), "inside", a),
			at(served("1.2,1.3", renewed...), "inside", b), at(served("1.2,1.3", renewed...), "outside", a),
			at(served("1.2,1.3", chain...), "outside", b)}},
		{name: "one is silent", seen: []facts.Observation{at(served("1.2,1.3", chain...), "inside", a),
			at(silent, "outside", b)}, want: []string{"reach"},
			says: "It answers from inside, and does not from outside"},
		{name: "no name outside", seen: []facts.Observation{at(served("1.2,1.3", chain...), "inside", a)},
			vantages: nowhere, want: []string{"reach"}},
		{name: "nobody was there", seen: []facts.Observation{at(served("1.2,1.3", chain...), "inside", a)},
			vantages: absent},
		{name: "half was visited", seen: []facts.Observation{at(served("1.2,1.3", chain...), "inside", a),
			at(served("1.2,1.3", renewed...), "outside", a)}, unvisited: []string{b + " from outside"}},
		{name: "silent where it was visited", seen: []facts.Observation{at(served("1.2,1.3", chain...), "inside", a),
			at(silent, "outside", a)}, unvisited: []string{b + " from outside"}},
		{name: "cut short", seen: []facts.Observation{at(served("1.2", chain...), "inside", a),
			at(broken, "outside", b)}, want: []string{"certificates"}},
		{name: "silent for both", seen: []facts.Observation{at(silent, "inside", a), at(silent, "outside", b)}},
	} {
		t.Run(c.name, func(t *testing.T) {
			e := observed(c.seen...)
			e.Vantages, e.Unvisited = c.vantages, c.unvisited
			j := judge.Endpoint(e, s.context())
			var subjects []string
			for _, f := range j.Findings {
				if f.Code == "deploy.vantages-differ" {
					subjects = append(subjects, f.Subject)
					assert.Equal(t, judge.Risk, f.Severity)
					assert.True(t, strings.Contains(f.Message, c.says), f.Message)
				}
				assert.NotEqual(t, "reach.address-refused", f.Code)
			}
			slices.Sort(subjects)
			assert.Equal(t, c.want, subjects)
		})
	}
	t.Run("addresses of one vantage", func(t *testing.T) {
		j := judge.Endpoint(observed(at(served("1.2,1.3", chain...), "inside", a),
			at(served("1.2,1.3", renewed...), "inside", b)), s.context())
		assert.Equal(t, []string{"deploy.addresses-differ risk certificates"}, codes(j))
	})
}
