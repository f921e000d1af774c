package judge

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"nurvik/core/chain"
	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/policy"
)

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

// Finding is one thing wrong.
type Finding struct {
	Code      string    `json:"code"`
	Severity  Severity  `json:"severity" enum:"fault,risk,note,none"`
	About     string    `json:"about" doc:"The certificate, name, version or address it is about, for people"`
	Subject   string    `json:"subject" doc:"The same, as identity: never a date or a count"`
	Message   string    `json:"message" doc:"What is wrong, in one sentence"`
	Evidence  Evidence  `json:"evidence"`
	Remedy    string    `json:"remedy" doc:"What to do"`
	Settings  []Setting `json:"settings,omitempty" doc:"The line that repairs it, for servers that usually serve such endpoints"`
	Addresses []string  `json:"addresses,omitempty" doc:"Where it was seen, for endpoints"`

	Waived *policy.Waiver `json:"waived,omitempty" doc:"The policy takes it out of the verdict"`
}

// Evidence is what the finding rests on; only what applies is set.
type Evidence struct {
	Certificate  *pki.Fingerprint `json:"certificate,omitempty"`
	Issuer       string           `json:"issuer,omitempty"`
	Serial       string           `json:"serial,omitempty"`
	NotBefore    *time.Time       `json:"not_before,omitempty"`
	NotAfter     *time.Time       `json:"not_after,omitempty"`
	Names        []string         `json:"names,omitempty" doc:"Names that the certificate covers"`
	Key          string           `json:"key,omitempty"`
	Algorithm    string           `json:"algorithm,omitempty"`
	Versions     []string         `json:"versions,omitempty" doc:"Protocol versions accepted"`
	Order        []string         `json:"order,omitempty" doc:"The right order, leaf first"`
	MissingPEM   []string         `json:"missing_pem,omitempty" doc:"The certificates to add"`
	CAIssuers    []string         `json:"ca_issuers,omitempty" doc:"Where the issuer's certificate can be had"`
	Store        string           `json:"store,omitempty"`
	Places       []string         `json:"places,omitempty" doc:"Addresses that were asked"`
	Anomalies    []pki.Anomaly    `json:"anomalies,omitempty"`
	Line         int              `json:"line,omitempty"`
	Offset       *int             `json:"offset,omitempty" doc:"In bytes"`
	Grammar      facts.Grammar    `json:"grammar,omitempty" enum:",standard,lax,outside" doc:"What RFC 7468 section 3 says of the form"`
	RefusedBy    []string         `json:"refused_by,omitempty" doc:"Libraries that were seen to refuse the form"`
	Paths        []string         `json:"paths,omitempty" doc:"Files that take part"`
	Access       *facts.Access    `json:"access,omitempty"`
	Observations []string         `json:"observations,omitempty" doc:"What was met, in words"`
}

// Identity is the same for the same finding tomorrow: it depends on target,
// code and subject only.
func Identity(target string, f Finding) string {
	sum := sha256.Sum256([]byte(strings.Join([]string{target, f.Code, f.Subject}, "\x00")))
	return hex.EncodeToString(sum[:16])
}

// Judgement is the result for one endpoint or file.
type Judgement struct {
	Target       string            `json:"target"`
	Kind         string            `json:"kind" enum:"endpoint,file"`
	Verdict      Verdict           `json:"verdict" enum:"sound,at-risk,faulty,unreachable"`
	Findings     []Finding         `json:"findings"`
	Leaf         *pki.Fingerprint  `json:"leaf,omitempty" doc:"The leaf that was judged first"`
	NotAfter     *time.Time        `json:"not_after,omitempty" doc:"When that leaf expires"`
	Issuer       string            `json:"issuer,omitempty" doc:"Who issued that leaf"`
	Chains       []Chain           `json:"chains" doc:"Each different chain that was met"`
	Certificates []pki.Description `json:"certificates" doc:"Every certificate that the chains name"`
}

// Chain is a chain as drawn, and where it was met.
type Chain struct {
	Addresses  []string          `json:"addresses,omitempty"`
	View       chain.View        `json:"view"`
	Audiences  []Audience        `json:"audiences" doc:"What each trust store makes of it"`
	Bundle     []string          `json:"bundle,omitempty" doc:"PEM of the complete, ordered chain without the anchor, where that is not what was given"`
	Revocation []RevocationState `json:"revocation" doc:"For each certificate of the best path, where it was asked"`
}

// verdictOf follows the rule of the findings: notes do not count.
func verdictOf(findings []Finding) Verdict {
	verdict := Sound
	for _, f := range findings {
		if f.Waived != nil {
			continue
		}
		switch f.Severity {
		case Fault:
			return Faulty
		case Risk:
			verdict = AtRisk
		}
	}
	return verdict
}

// settle applies the policy's severities and waivers to the findings of a target.
func (c *Context) settle(target string, findings []Finding) []Finding {
	if len(c.Policy.Severities)+len(c.Policy.Waivers) == 0 {
		return findings
	}
	out := findings[:0:0]
	for _, f := range findings {
		switch severity := c.Policy.Severity(f.Code); {
		case severity == policy.Off:
			continue
		case severity != "" && f.Severity != None:
			f.Severity = Severity(severity)
		}
		f.Waived = c.Policy.Waived(f.Code, target, c.At)
		out = append(out, f)
	}
	return out
}

// CheckPolicy looks for codes in the policy that are not in the catalogue; the error says what may be meant.
func CheckPolicy(p policy.Policy) error {
	var failures []error
	check := func(code string) {
		if area, all := strings.CutSuffix(code, ".*"); all {
			if !slices.ContainsFunc(Catalogue(), func(e Entry) bool { return strings.HasPrefix(e.Code, area+".") }) {
				failures = append(failures, fmt.Errorf("there is no area %q of findings", area))
			}
			return
		}
		if _, err := Explain(code); err != nil {
			failures = append(failures, err)
		}
	}
	for _, code := range slices.Sorted(maps.Keys(p.Severities)) {
		check(code)
	}
	for _, w := range p.Waivers {
		check(w.Code)
	}
	return errors.Join(failures...)
}

// merge joins the same finding on several addresses into one and sorts.
func merge(findings []Finding) []Finding {
	out := []Finding{}
	if len(findings) == 0 {
		return out
	}
	place := map[[2]string]int{} // in out, by code and subject
	for _, f := range findings {
		i, seen := place[[2]string{f.Code, f.Subject}]
		if !seen {
			place[[2]string{f.Code, f.Subject}] = len(out)
			out = append(out, f)
			continue
		}
		if out[i].Severity != f.Severity && f.Severity.AtLeast(out[i].Severity) {
			f.Addresses = append(out[i].Addresses, f.Addresses...)
			out[i] = f
		} else {
			out[i].Addresses = append(out[i].Addresses, f.Addresses...)
		}
	}
	for i := range out {
		slices.Sort(out[i].Addresses)
		out[i].Addresses = slices.Compact(out[i].Addresses)
	}
	slices.SortStableFunc(out, func(a, b Finding) int {
		return cmp.Or(
			cmp.Compare(slices.Index(Severities, a.Severity), slices.Index(Severities, b.Severity)),
			cmp.Compare(a.Code, b.Code), cmp.Compare(a.Subject, b.Subject))
	})
	return out
}
