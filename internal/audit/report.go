// Package audit makes a whole audit without a service: targets become facts,
// facts become judgements.
package audit

import (
	"slices"
	"time"

	"nurvik/core/judge"
	"nurvik/core/pki"
)

// Schema is the version of the JSON of a report.
const Schema = "nurvik.audit/1"

// Report is the result of an audit.
type Report struct {
	Schema     string       `json:"schema"`
	At         time.Time    `json:"at"`
	Policy     string       `json:"policy"`
	Targets    []Target     `json:"targets"`
	Unexamined []Unexamined `json:"unexamined"`
	NoRoute    []string     `json:"no_route,omitempty"`
	Linked     []string     `json:"linked,omitempty"` // directories behind links, which were not entered
	Summary    Summary      `json:"summary"`

	Deployments []judge.Deployment `json:"deployments,omitempty"` // disk, configuration and wire of each place that was visited
}

// Target is one endpoint or file with its judgement and the facts beneath it.
type Target struct {
	judge.Judgement
	Facts any `json:"facts"` // facts.Endpoint, facts.File or facts.Configuration
}

// Unexamined is a thing named in the call that could not be examined.
type Unexamined struct {
	Target string `json:"target"`
	Reason string `json:"reason"`
}

// Summary counts the verdicts.
type Summary struct {
	Sound       int `json:"sound"`
	AtRisk      int `json:"at-risk"`
	Faulty      int `json:"faulty"`
	Unreachable int `json:"unreachable"`
}

// Count adds one verdict.
func (s *Summary) Count(v judge.Verdict) {
	switch v {
	case judge.Sound:
		s.Sound++
	case judge.AtRisk:
		s.AtRisk++
	case judge.Faulty:
		s.Faulty++
	case judge.Unreachable:
		s.Unreachable++
	}
}

// Reaches reports whether any finding is at or above the severity.
func (r *Report) Reaches(limit judge.Severity) bool {
	return slices.ContainsFunc(r.Targets, func(t Target) bool { return judge.Reach(t.Findings, limit) })
}

// Knows reports whether a certificate or key of the fingerprint was met.
func (r *Report) Knows(f pki.Fingerprint) bool {
	return slices.ContainsFunc(r.Targets, func(t Target) bool {
		return slices.ContainsFunc(t.Certificates, func(d pki.Description) bool {
			return d.SHA256 == f ||
				d.SPKI == f
		})
	})
}
