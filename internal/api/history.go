package api

import "time"

// HistoryEntry is an audit in which an endpoint was not as in the one before.
type HistoryEntry struct {
	AuditID  int64     `json:"audit_id"`
	At       time.Time `json:"at" doc:"When the audit began"`
	Verdict  string    `json:"verdict" enum:"sound,at-risk,faulty,unreachable"`
	First    bool      `json:"first,omitempty" doc:"It was examined for the first time"`
	Before   string    `json:"before,omitempty" enum:"sound,at-risk,faulty,unreachable" doc:"The verdict before, where it was another"`
	Changes  []string  `json:"changes" doc:"In sentences"`
	Appeared []string  `json:"appeared" doc:"Codes of findings that were not there before"`
	Gone     []string  `json:"gone" doc:"Codes of findings that were there before"`
}

// HistoryPage is one page of an endpoint's history, the newest first.
type HistoryPage struct {
	Items []HistoryEntry `json:"items" doc:"Audits in which nothing changed are left out"`
	Next  string         `json:"next,omitempty"`
}
