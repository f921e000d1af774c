package api

import (
	"time"
)

// Holding is what one machine holds, with its latest judgement in short.
type Holding struct {
	ID        int64      `json:"id"`
	Tag       string     `json:"tag" doc:"Changes with what is set of it; as If-Match it keeps a change from undoing another one"`
	Name      string     `json:"name" doc:"Of the machine"`
	Policy    string     `json:"policy"`
	Trust     []string   `json:"trust"`
	Audiences []string   `json:"audiences"`
	SentAt    time.Time  `json:"sent_at" doc:"When its facts were sent last"`
	JudgedAt  *time.Time `json:"judged_at,omitempty" doc:"Absent until it is judged for the first time"`
	Files     int        `json:"files"`
	Verdict   string     `json:"verdict" enum:",sound,at-risk,faulty" doc:"Of the worst file"`
	Faults    int        `json:"faults"`
	Risks     int        `json:"risks"`
	Notes     int        `json:"notes"`
	Waived    int        `json:"waived" doc:"Findings that are waived, and do not count"`
	Codes     []string   `json:"codes" doc:"Codes of the findings that count, each once"`
	Waiting   bool       `json:"waiting,omitempty" doc:"What was sent or set last is not judged yet"`
	Failure   string     `json:"failure,omitempty" doc:"Why what was sent last could not be judged"`
}

// HoldingSettings is what people set of a holding; what is left out stays.
type HoldingSettings struct {
	Policy    *string   `json:"policy,omitempty"`
	Trust     *[]string `json:"trust,omitempty" maxItems:"50"`
	Audiences *[]string `json:"audiences,omitempty" maxItems:"50"`
}

// HoldingView is a holding with its findings.
type HoldingView struct {
	Holding  Holding   `json:"holding"`
	Findings []Finding `json:"findings" doc:"Those that are not gone, the worst first; at most 1000"`
}

// HoldingFile is one file of a holding.
type HoldingFile struct {
	Path     string   `json:"path"`
	Verdict  string   `json:"verdict" enum:",sound,at-risk,faulty"`
	Contents []string `json:"contents" doc:"What it holds, in words"`
}

// HoldingDigest is a file of a holding with the digest of the line by which it was sent.
type HoldingDigest struct {
	Path   string `json:"path"`
	Digest string `json:"digest" doc:"SHA-256 of the line, without its end; empty where it is not known"`
}

// HoldingDigestPage is one page of those, by path.
type HoldingDigestPage struct {
	Items []HoldingDigest `json:"items"`
	Next  string          `json:"next,omitempty" doc:"Cursor of the next page; absent on the last"`
}

// HoldingFilePage is one page of files, by path.
type HoldingFilePage struct {
	Items []HoldingFile `json:"items"`
	Next  string        `json:"next,omitempty" doc:"Cursor of the next page; absent on the last"`
}
