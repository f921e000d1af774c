package store

import (
	"time"

	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/trust"
)

// TrustStore is a named set of anchors.
type TrustStore struct {
	Name      string   `gorm:"primaryKey"`
	Anchors   []Anchor `gorm:"serializer:json"`
	UpdatedAt time.Time
}

// Anchor is one anchor of a store.
type Anchor struct {
	DER  []byte     `json:"der"`
	Kind trust.Kind `json:"kind"`
}

// Endpoint is one endpoint of the estate, with its latest judgement in short.
type Endpoint struct {
	ID            int64
	Target        string
	Names         []string `gorm:"serializer:json"`
	Connect       []string `gorm:"serializer:json"`
	HTTPPort      uint16   `gorm:"column:http_port"`
	ServerName    string
	Authenticated bool
	Trust         []string          `gorm:"serializer:json"`
	Audiences     []string          `gorm:"serializer:json"`
	Labels        map[string]string `gorm:"serializer:json"`
	CreatedAt     time.Time
	UpdatedAt     time.Time

	AuditID  *int64
	Verdict  string
	NotAfter *time.Time
	Issuer   string
	Faults   int
	Risks    int
	Notes    int
	Codes    []string `gorm:"serializer:json"` // of the findings, the worst first, each once
	JudgedAt *time.Time
}

// State is where an audit stands.
type State string

// The states of an audit, in their order; the last three are final.
const (
	Planning  State = "planning"  // addresses are being found
	Visiting  State = "visiting"  // visits are under way
	Judging   State = "judging"   // everything was visited
	Finished  State = "finished"  // every endpoint is judged
	Cancelled State = "cancelled" // by a person; verdicts are as before
	Failed    State = "failed"    // for a reason that is told
)

// Final reports whether nothing more will happen.
func (s State) Final() bool { return s == Finished || s == Cancelled || s == Failed }

// Audit is one run over the estate.
type Audit struct {
	ID           int64
	State        State
	Policy       string
	PolicyFile   string // of one's own, as it was sent
	PolicyChosen bool   // the caller named it: it holds for every endpoint
	AsOf         *time.Time
	CreatedAt    time.Time
	FinishedAt   *time.Time
	Failure      string
}

// Examination is one endpoint in one audit.
type Examination struct {
	AuditID    int64           `gorm:"primaryKey"`
	EndpointID int64           `gorm:"primaryKey"`
	Facts      *facts.Endpoint `gorm:"serializer:json"`
	Verdict    string
	Judgement  *judge.Judgement `gorm:"serializer:json"`
}

// The states of a visit.
const (
	VisitWaiting   = "waiting"
	VisitDone      = "done"
	VisitFailed    = "failed"
	VisitCancelled = "cancelled"
)

// Visit is one address of one endpoint in one audit.
type Visit struct {
	ID          int64
	AuditID     int64
	EndpointID  int64
	Address     string
	ServerName  string
	State       string
	Observation *facts.Observation `gorm:"serializer:json"`
	Failure     string
}

// Certificate is a certificate that was met.
type Certificate struct {
	SHA256     string `gorm:"primaryKey;column:sha256"`
	SPKISHA256 string `gorm:"column:spki_sha256"`
	DER        []byte `gorm:"column:der"`
	Subject    string
	Issuer     string
	Serial     string
	Authority  bool
	NotAfter   *time.Time
	FirstSeen  time.Time
	LastSeen   time.Time
}

// The life of a finding.
const (
	FindingNew      = "new"      // seen for the first time in the latest audit
	FindingStanding = "standing" // seen before too
	FindingGone     = "gone"     // no longer seen
	FindingBack     = "back"     // was gone and is seen again
)

// Finding is one thing wrong, across audits.
type Finding struct {
	ID         string `gorm:"primaryKey"`
	EndpointID *int64 // of findings about endpoints
	HoldingID  *int64 // of findings about files of a holding
	Path       string // of the file
	Code       string
	Severity   string
	Subject    string
	About      string
	Message    string
	Remedy     string
	Evidence   judge.Evidence `gorm:"serializer:json"`
	Addresses  []string       `gorm:"serializer:json"`
	State      string
	FirstSeen  time.Time
	LastSeen   time.Time
	GoneAt     *time.Time
	AuditID    *int64
}
