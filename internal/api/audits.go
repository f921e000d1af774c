package api

import (
	"time"

	"nurvik/core/facts"
	"nurvik/core/judge"
)

// AuditStart asks for an audit.
type AuditStart struct {
	EndpointIDs []int64    `json:"endpoint_ids,omitempty" maxItems:"100000" doc:"None means the whole estate"`
	Policy      string     `json:"policy,omitempty" doc:"A built-in policy, for every endpoint. Without one it is open-web, and opportunistic where clients check nobody"`
	PolicyFile  string     `json:"policy_file,omitempty" maxLength:"200000" doc:"A policy of one's own, in the form of docs/policy-file.md, in the place of a built-in one. Its limits do not count here"`
	At          *time.Time `json:"at,omitempty" doc:"Judge as of this time"`
}

// Audit is one run over the estate.
type Audit struct {
	ID         int64      `json:"id"`
	State      string     `json:"state" enum:"planning,visiting,judging,finished,cancelled,failed"`
	Policy     string     `json:"policy"`
	At         *time.Time `json:"at,omitempty" doc:"Judged as of this time, when one was given"`
	CreatedAt  time.Time  `json:"created_at"`
	FinishedAt *time.Time `json:"finished_at,omitempty"`
	Failure    string     `json:"failure,omitempty"`
	Endpoints  int        `json:"endpoints"`
	Visits     int        `json:"visits" doc:"0 until the addresses are known"`
	Done       int        `json:"done" doc:"Visits that have a result"`
	Verdicts   Verdicts   `json:"verdicts" doc:"All zero until it is finished"`
}

// Final reports whether nothing more will happen.
func (a Audit) Final() bool {
	return a.State == "finished" || a.State == "cancelled" || a.State == "failed"
}

// Verdicts counts endpoints by verdict.
type Verdicts struct {
	Sound       int `json:"sound"`
	AtRisk      int `json:"at-risk"`
	Faulty      int `json:"faulty"`
	Unreachable int `json:"unreachable"`
}

// AuditPage is one page of audits, the newest first.
type AuditPage struct {
	Items []Audit `json:"items"`
	Next  string  `json:"next,omitempty" doc:"Cursor of the next page; absent on the last"`
}

// Examination is an endpoint with its latest facts and judgement.
type Examination struct {
	Endpoint  Endpoint         `json:"endpoint"`
	Judgement *judge.Judgement `json:"judgement,omitempty" doc:"Absent until it is judged for the first time"`
	Facts     *facts.Endpoint  `json:"facts,omitempty"`
	Findings  []Finding        `json:"findings" doc:"Those that are not gone, the worst first"`
}

// Finding is one thing wrong, followed from audit to audit.
type Finding struct {
	ID         string          `json:"id" doc:"The same in every audit"`
	EndpointID *int64          `json:"endpoint_id,omitempty" doc:"Of findings about endpoints"`
	Endpoint   string          `json:"endpoint,omitempty"`
	HoldingID  *int64          `json:"holding_id,omitempty" doc:"Of findings about files"`
	Holding    string          `json:"holding,omitempty"`
	Path       string          `json:"path,omitempty" doc:"Of the file, on the machine of the holding"`
	Code       string          `json:"code"`
	Severity   string          `json:"severity" enum:"fault,risk,note,none"`
	Title      string          `json:"title"`
	About      string          `json:"about"`
	Subject    string          `json:"subject"`
	Message    string          `json:"message"`
	Why        string          `json:"why"`
	Remedy     string          `json:"remedy"`
	Settings   []judge.Setting `json:"settings,omitempty" doc:"The line that repairs it, for servers that usually serve such endpoints"`
	Reference  string          `json:"reference"`
	Evidence   judge.Evidence  `json:"evidence"`
	Addresses  []string        `json:"addresses"`
	State      string          `json:"state" enum:"new,standing,gone,back"`
	FirstSeen  time.Time       `json:"first_seen"`
	LastSeen   time.Time       `json:"last_seen"`
	GoneAt     *time.Time      `json:"gone_at,omitempty"`
}

// Place is the endpoint, or the holding and the path in it.
func (f Finding) Place() string {
	if f.Holding != "" {
		return f.Holding + ":" + f.Path
	}
	return f.Endpoint
}

// FindingPage is one page of findings, the worst first.
type FindingPage struct {
	Items []Finding `json:"items"`
	Next  string    `json:"next,omitempty" doc:"Cursor of the next page; absent on the last"`
}
