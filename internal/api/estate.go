package api

import (
	"nurvik/core/endpoint"
	"time"
)

// EndpointSettings is what people say of an endpoint.
type EndpointSettings = endpoint.Settings

// Endpoint is an endpoint of the estate with its latest judgement in short.
type Endpoint struct {
	ID  int64  `json:"id"`
	Tag string `json:"tag" doc:"Changes with what is set of it; as If-Match it keeps a change from undoing another one"`
	EndpointSettings
	Verdict      string     `json:"verdict" enum:",sound,at-risk,faulty,unreachable" doc:"Empty until it is judged for the first time"`
	NotAfter     *time.Time `json:"not_after,omitempty" doc:"When the leaf served last expires"`
	Issuer       string     `json:"issuer,omitempty" doc:"Who issued it"`
	Faults       int        `json:"faults"`
	Risks        int        `json:"risks"`
	NoteFindings int        `json:"note_findings" doc:"Findings that are notes; the notes that people write are in notes"`
	Waived       int        `json:"waived" doc:"Findings that are waived, and do not count"`
	Codes        []string   `json:"codes" doc:"Codes of the findings that count, the worst first, each once"`
	JudgedBy     string     `json:"judged_by,omitempty" doc:"The policy that it was judged by"`
	JudgedAt     *time.Time `json:"judged_at,omitempty"`
	AuditID      *int64     `json:"audit_id,omitempty" doc:"The audit that judged it"`

	Provisional bool `json:"provisional,omitempty" doc:"That audit has not ended: what other endpoints and the machines show is still to come"`
}

// EndpointPage is one page of endpoints.
type EndpointPage struct {
	Items    []Endpoint     `json:"items"`
	Next     string         `json:"next,omitempty" doc:"Cursor of the next page; absent on the last"`
	Verdicts map[string]int `json:"verdicts" doc:"Endpoints of the whole estate by verdict; the empty key counts those not judged yet"`
}

// TrustStore is a named set of anchors.
type TrustStore struct {
	Name    string   `json:"name" minLength:"1" maxLength:"100"`
	Anchors []Anchor `json:"anchors" maxItems:"10000"`
}

// Anchor is one trust anchor.
type Anchor struct {
	DER  []byte `json:"der" doc:"The certificate"`
	Kind string `json:"kind" enum:"public,private,rehearsal"`
}

// Estate is the whole estate, for import and export.
type Estate struct {
	Stores    []TrustStore       `json:"stores" maxItems:"1000"`
	Policies  []NamedPolicy      `json:"policies,omitempty" maxItems:"1000"`
	Endpoints []EndpointSettings `json:"endpoints" maxItems:"100000"`
}

// NamedPolicy is a policy that the estate names.
type NamedPolicy struct {
	Name string `json:"name" minLength:"1" maxLength:"100" pattern:"^[a-z0-9][a-z0-9._-]*$"`
	Text string `json:"text" minLength:"1" maxLength:"200000"`
}

// EstateImport is an estate to take in.
type EstateImport struct {
	Estate
	Replace bool `json:"replace,omitempty" doc:"Remove endpoints that are not in it"`
}

// Imported says what an import did.
type Imported struct {
	Added     int `json:"added"`
	Changed   int `json:"changed"`
	Unchanged int `json:"unchanged"`
	Removed   int `json:"removed"`
}

// Forgotten is how many connections to a database server count no more.
type Forgotten struct {
	Connections int `json:"connections" doc:"That ended before the login"`
}
