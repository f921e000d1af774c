package judge

import (
	"slices"
	"time"

	"nurvik/core/policy"
)

// Rewaived is the judgement with the waivers of people as they are at the time,
// in the place of those that it was made with. Those of its policy stay.
func Rewaived(j Judgement, waivers []policy.Waiver, at time.Time) Judgement {
	own := policy.Policy{Waivers: waivers}
	findings := slices.Clone(j.Findings)
	for i := range findings {
		if f := &findings[i]; f.Waived == nil || f.Waived.By != "" {
			f.Waived = own.Waived(f.Code, j.Target, at)
		}
	}
	j.Findings = findings
	if j.Verdict == Faulty || j.Verdict == AtRisk || j.Verdict == Sound {
		j.Verdict = verdictOf(findings)
	}
	return j
}
