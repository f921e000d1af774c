package judge

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"time"

	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/policy"
)

// Finding is one thing wrong. It is made here, stored and shown as it is.
type Finding struct {
	Code      string   `json:"code"`
	Severity  Severity `json:"severity" enum:"fault,risk,note,none"`
	About     string   `json:"about" doc:"The certificate, name, version or address it is about, for people"`
	Subject   string   `json:"subject" doc:"The same, as identity: never a date or a count"`
	Message   string   `json:"message" doc:"What is wrong, in one sentence"`
	Evidence  Evidence `json:"evidence"`
	Remedy    string   `json:"remedy" doc:"What to do"`
	Edits     []Edit   `json:"edits,omitempty" doc:"What to change, for servers that usually serve such endpoints"`
	Addresses []string `json:"addresses,omitempty" doc:"Where it was seen, for endpoints"`

	Waived *policy.Waiver `json:"waived,omitempty" doc:"The policy takes it out of the verdict"`

	replaces string // the codes, with spaces, of findings about the same subject, of which this one says more
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
	File         string           `json:"file,omitempty" doc:"Of a configuration: the file that the line is in"`
	Line         int              `json:"line,omitempty"`
	Offset       *int             `json:"offset,omitempty" doc:"In bytes"`
	Grammar      facts.Grammar    `json:"grammar,omitempty" enum:",standard,lax,outside" doc:"What RFC 7468 section 3 says of the form"`
	RefusedBy    []string         `json:"refused_by,omitempty" doc:"Libraries that were seen to refuse the form"`
	Paths        []string         `json:"paths,omitempty" doc:"Files that take part"`
	Access       *facts.Access    `json:"access,omitempty"`
	Observations []string         `json:"observations,omitempty" doc:"What was met, in words"`
}

// Counts reports whether the finding counts for the verdict: a waived one does not.
func (f Finding) Counts() bool { return f.Waived == nil }

// Reach reports whether any finding that counts is at least as severe as the
// limit. What only says why an endpoint is unreachable is nothing to fail for.
func Reach(findings []Finding, limit Severity) bool {
	return slices.ContainsFunc(findings, func(f Finding) bool {
		return f.Counts() && f.Severity != None && f.Severity.AtLeast(limit)
	})
}

// Tally is what lists show of findings: how many count, and their codes.
type Tally struct {
	Faults, Risks, Notes, Waived int
	Codes                        []string // of those that count, the worst first, each once
}

// TallyOf counts findings, which are sorted by severity.
func TallyOf(findings []Finding) Tally {
	t := Tally{Codes: []string{}}
	for _, f := range findings {
		switch {
		case !f.Counts():
			t.Waived++
			continue
		case f.Severity == Fault:
			t.Faults++
		case f.Severity == Risk:
			t.Risks++
		case f.Severity == Note:
			t.Notes++
		}
		if !slices.Contains(t.Codes, f.Code) {
			t.Codes = append(t.Codes, f.Code)
		}
	}
	return t
}

// Identity is the same for the same finding tomorrow: it depends on target,
// code and subject only.
func Identity(target string, f Finding) string {
	sum := sha256.Sum256([]byte(strings.Join([]string{target, f.Code, f.Subject}, "\x00")))
	return hex.EncodeToString(sum[:16])
}

// found starts a finding of the code with its default severity and general
// remedy. It panics on a code that the catalogue lacks, which a test of every
// check would show.
func found(code, subject, about, message string, args ...any) Finding {
	e, ok := catalogue().byCode[code]
	if !ok {
		panic("judge: the catalogue lacks " + code)
	}
	return Finding{
		Code: code, Severity: e.Severities[0], Subject: subject, About: about,
		Message: fmt.Sprintf(message, args...), Remedy: strings.TrimSpace(e.Remedy),
	}
}

// aboutCertificate starts a finding whose subject is a certificate.
func aboutCertificate(code string, c *pki.Certificate, message string, args ...any) Finding {
	f := found(code, c.Fingerprint().String(), c.Label(), message, args...)
	f.Evidence = certificateEvidence(c)
	return f
}

func fingerprint(c *pki.Certificate) *pki.Fingerprint {
	f := c.Fingerprint()
	return &f
}

// certificateEvidence is what identifies a certificate in a report.
func certificateEvidence(c *pki.Certificate) Evidence {
	e := Evidence{Certificate: fingerprint(c), Issuer: c.Issuer.String(), Serial: c.SerialHex()}
	if !c.NotBefore.IsZero() {
		e.NotBefore = &c.NotBefore
	}
	if !c.NotAfter.IsZero() {
		e.NotAfter = &c.NotAfter
	}
	return e
}

// verdictOf follows the rule of the findings: notes do not count.
func verdictOf(findings []Finding) Verdict {
	switch {
	case Reach(findings, Fault):
		return Faulty
	case Reach(findings, Risk):
		return AtRisk
	}
	return Sound
}

// settled applies the policy's severities and waivers to the findings of a target.
func settled(p *policy.Policy, at time.Time, target string, findings []Finding) []Finding {
	if len(p.Severities)+len(p.Waivers) == 0 {
		return findings
	}
	out := findings[:0:0]
	for _, f := range findings {
		switch severity := p.Severity(f.Code); {
		case severity == policy.Off:
			continue
		case severity != "" && f.Severity != None:
			f.Severity = Severity(severity)
		}
		f.Waived = p.Waived(f.Code, target, at)
		out = append(out, f)
	}
	return out
}

// merge joins the same finding on several addresses into one and sorts. The
// result does not depend on the order of what comes in.
func merge(findings []Finding) []Finding {
	out := []Finding{}
	if len(findings) == 0 {
		return out
	}
	order := make([]*Finding, len(findings)) // findings are large, and a file may have very many
	for i := range findings {
		order[i] = &findings[i]
	}
	slices.SortStableFunc(order, func(a, b *Finding) int {
		return cmp.Or(cmp.Compare(a.Code, b.Code), cmp.Compare(a.Subject, b.Subject),
			cmp.Compare(slices.Index(Severities, a.Severity), slices.Index(Severities, b.Severity)),
			slices.Compare(a.Addresses, b.Addresses))
	})
	joined := order[:0]
	for _, f := range order {
		if last := len(joined) - 1; last >= 0 && joined[last].Code == f.Code && joined[last].Subject == f.Subject {
			joined[last].Addresses = append(slices.Clone(joined[last].Addresses), f.Addresses...)
			continue
		}
		joined = append(joined, f)
	}
	slices.SortStableFunc(joined, func(a, b *Finding) int {
		return cmp.Or(
			cmp.Compare(slices.Index(Severities, a.Severity), slices.Index(Severities, b.Severity)),
			cmp.Compare(a.Code, b.Code), cmp.Compare(a.Subject, b.Subject))
	})
	out = slices.Grow(out, len(joined))
	replaced := map[string]bool{}
	for _, f := range joined {
		for code := range strings.FieldsSeq(f.replaces) {
			replaced[code+" "+f.Subject] = true
		}
	}
	for _, f := range joined {
		if len(replaced) > 0 && replaced[f.Code+" "+f.Subject] {
			continue
		}
		out = append(out, *f)
		last := &out[len(out)-1]
		last.Addresses = slices.Clone(last.Addresses)
		slices.Sort(last.Addresses)
		last.Addresses = slices.Compact(last.Addresses)
	}
	return out
}
