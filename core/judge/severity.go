package judge

import "slices"

// Severity says how bad a finding is.
type Severity string

// The severities. None belongs to findings that only say why an endpoint is unreachable.
const (
	Fault Severity = "fault" // a conforming client fails now, or an attacker can act now
	Risk  Severity = "risk"  // some clients fail, it will fail, or a standard says no
	Note  Severity = "note"  // worth knowing
	None  Severity = "none"
)

// Severities in falling order.
var Severities = []Severity{Fault, Risk, Note, None}

// AtLeast reports whether the severity is the given one or worse.
func (s Severity) AtLeast(limit Severity) bool {
	return slices.Index(Severities, s) <= slices.Index(Severities, limit)
}

// lower is one step below a severity.
var lower = map[Severity]Severity{Fault: Risk, Risk: Note, Note: None}

// Verdict is the judgement of an endpoint or file.
type Verdict string

// The verdicts.
const (
	Sound       Verdict = "sound"
	AtRisk      Verdict = "at-risk"
	Faulty      Verdict = "faulty"
	Unreachable Verdict = "unreachable"
)

// Verdicts in the order in which people want to see them.
var Verdicts = []Verdict{Faulty, AtRisk, Unreachable, Sound}

// Worse reports whether the verdict comes before the other one.
func (v Verdict) Worse(than Verdict) bool {
	return slices.Index(Verdicts, v) < slices.Index(Verdicts, than)
}
