package judge

import "slices"

// Partly is the verdict and the tally of a target of which not everything could be looked at this time. The findings
// that stand from before count beside those of the judgement, and it is sound only where it was so before: what was
// never looked at is not vouched for. There is no verdict then, "".
func Partly(j Judgement, standing []Finding, before Verdict) (Verdict, Tally) {
	all := slices.Concat(j.Findings, standing)
	verdict := j.Verdict
	if verdict != Unreachable {
		verdict = verdictOf(all)
	}
	if verdict == Sound && before != Sound {
		verdict = ""
	}
	return verdict, TallyOf(all)
}
