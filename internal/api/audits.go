package api

import (
	"time"

	"nurvik/core/facts"
	"nurvik/core/judge"
)

// AuditStart asks for an audit.
type AuditStart struct {
	EndpointIDs []int64 `json:"endpoint_ids,omitempty" maxItems:"20000" doc:"None means the whole estate"`
}

// Audit is one run over the estate: visits, judged as of now by the policies that are assigned.
type Audit struct {
	ID         int64      `json:"id"`
	State      string     `json:"state" enum:"planning,visiting,judging,finished,cancelled,failed"`
	CreatedAt  time.Time  `json:"created_at"`
	FinishedAt *time.Time `json:"finished_at,omitempty"`
	Failure    string     `json:"failure,omitempty"`
	By         string     `json:"by,omitempty" doc:"Who began it"`
	Schedule   string     `json:"schedule,omitempty" doc:"Or which schedule"`
	Endpoints  int        `json:"endpoints"`
	Visits     int        `json:"visits" doc:"0 until the addresses are known"`
	Done       int        `json:"done" doc:"Visits that have a result"`
	Judged     int        `json:"judged" doc:"Endpoints that are judged, or told as not examined"`
	Verdicts   Verdicts   `json:"verdicts" doc:"Of the endpoints that are judged; provisional until it is finished"`

	Unexamined []Unexamined `json:"unexamined,omitempty" doc:"Endpoints that could not be examined, up to 100; their last verdicts stay"`
}

// Unexamined is an endpoint that could not be examined in an audit, and why.
type Unexamined struct {
	Target     string `json:"target"`
	Unexamined string `json:"unexamined" doc:"Why"`
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

// Count adds one verdict.
func (v *Verdicts) Count(verdict judge.Verdict) {
	switch verdict {
	case judge.Sound:
		v.Sound++
	case judge.AtRisk:
		v.AtRisk++
	case judge.Faulty:
		v.Faulty++
	case judge.Unreachable:
		v.Unreachable++
	}
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

// Finding is one thing wrong, followed from audit to audit: the finding as it
// was judged, and beside it its life and what people said of it.
type Finding struct {
	ID         string `json:"id" doc:"The same in every audit"`
	EndpointID *int64 `json:"endpoint_id,omitempty" doc:"Of findings about endpoints"`
	Endpoint   string `json:"endpoint,omitempty"`
	Owner      string `json:"owner,omitempty" doc:"Of the endpoint"`
	HoldingID  *int64 `json:"holding_id,omitempty" doc:"Of findings about files"`
	Holding    string `json:"holding,omitempty"`
	Path       string `json:"path,omitempty" doc:"Of the file, on the machine of the holding"`
	judge.Finding
	Title        string           `json:"title"`
	Why          string           `json:"why"`
	Reference    string           `json:"reference"`
	Cause        string           `json:"cause,omitempty" doc:"What it has in common with others"`
	State        string           `json:"state" enum:"new,standing,gone,back"`
	FirstSeen    time.Time        `json:"first_seen"`
	LastSeen     time.Time        `json:"last_seen"`
	GoneAt       *time.Time       `json:"gone_at,omitempty"`
	Acknowledged *Acknowledgement `json:"acknowledged,omitempty"`
}

// Acknowledgement says that somebody has seen a finding.
type Acknowledgement struct {
	By   string    `json:"by"`
	At   time.Time `json:"at"`
	Note string    `json:"note,omitempty"`
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
