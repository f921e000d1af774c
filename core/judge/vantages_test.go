package judge_test

import (
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/policy"
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

// TestPartly: where not everything was looked at, what stands from before counts. Nothing gets better by not looking.
func TestPartly(t *testing.T) {
	finding := func(code string, s judge.Severity) judge.Finding { return judge.Finding{Code: code, Severity: s} }
	risk, fault := finding("time.soon", judge.Risk), finding("time.expired", judge.Fault)
	waived := fault
	waived.Waived = &policy.Waiver{}
	list := func(f ...judge.Finding) []judge.Finding { return f }
	tests := []struct {
		name     string
		now      judge.Verdict
		found    []judge.Finding
		standing []judge.Finding
		before   judge.Verdict
		want     judge.Verdict
	}{
		{"sound before and now", judge.Sound, nil, nil, judge.Sound, judge.Sound},
		{"never judged, and nothing found", judge.Sound, nil, nil, "", ""},
		{"what was found elsewhere stands", judge.Sound, nil, list(fault), judge.Faulty, judge.Faulty},
		{"what was found elsewhere is worse", judge.AtRisk, list(risk), list(fault), judge.Faulty, judge.Faulty},
		{"what is found now is worse", judge.Faulty, list(fault), list(risk), judge.AtRisk, judge.Faulty},
		{"repaired where it was looked at, the rest never seen", judge.Sound, nil, nil, judge.Faulty, ""},
		{"unreachable before, answered in part", judge.Sound, nil, nil, judge.Unreachable, ""},
		{"waived what stands", judge.Sound, nil, list(waived), judge.Sound, judge.Sound},
		{"unreachable", judge.Unreachable, nil, list(fault), judge.Faulty, judge.Unreachable},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			got, tally := judge.Partly(judge.Judgement{Verdict: tt.now, Findings: tt.found}, tt.standing, tt.before)
			assert.Equal(t, tt.want, got)
			assert.Equal(t, judge.TallyOf(append(tt.found, tt.standing...)), tally)
		})
	}
}
