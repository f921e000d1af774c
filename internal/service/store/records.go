package store

import (
	"time"

	"nurvik/core/endpoint"
	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/life"
	"nurvik/core/trust"
	"nurvik/internal/api"
)

// TrustStore is a named set of anchors.
type TrustStore struct {
	Name      string   `gorm:"primaryKey"`
	Anchors   []Anchor `gorm:"serializer:json"`
	UpdatedAt time.Time
}

// Trusted is the store for judging. Anchors that cannot be read any more are left out.
func (t TrustStore) Trusted() *trust.Store {
	var anchors []trust.Anchor
	for _, a := range t.Anchors {
		if c, err := trust.ParseAnchor(a.DER, a.Kind); err == nil {
			anchors = append(anchors, c)
		}
	}
	return trust.New(t.Name, anchors)
}

// Anchor is one anchor of a store.
type Anchor struct {
	DER  []byte     `json:"der"`
	Kind trust.Kind `json:"kind"`
}

// Latest is what lists show of the latest judgement.
type Latest struct {
	Verdict  string
	Faults   int
	Risks    int
	Notes    int
	Waived   int
	Codes    []string `gorm:"serializer:json"` // of the findings that count, the worst first, each once
	JudgedAt *time.Time
}

// latest are the columns of Latest.
var latest = []string{"verdict", "faults", "risks", "notes", "waived", "codes", "judged_at"}

func latestOf(verdict judge.Verdict, t judge.Tally, at time.Time) Latest {
	return Latest{Verdict: string(verdict), Faults: t.Faults, Risks: t.Risks, Notes: t.Notes, Waived: t.Waived,
		Codes: t.Codes, JudgedAt: &at}
}

// Endpoint is one endpoint of the estate, with its latest judgement in short.
type Endpoint struct {
	ID        int64
	Target    string
	Settings  endpoint.Settings `gorm:"serializer:json"`
	CreatedAt time.Time
	UpdatedAt time.Time

	AuditID    *int64
	ObservedAt *time.Time // when that was observed by which it is judged
	NotAfter   *time.Time
	Issuer     string
	JudgedBy   string // the policy

	Provisional bool // it was judged by an audit that has not ended
	Latest      `gorm:"embedded"`
}

// State is where an audit stands.
type State string

// The states of an audit, in their order; the last three are final.
const (
	Planning  State = "planning"  // addresses are being found
	Visiting  State = "visiting"  // visits are under way, and endpoints are judged as theirs end
	Judging   State = "judging"   // everything was judged once, and is looked at together
	Finished  State = "finished"  // every endpoint is judged
	Cancelled State = "cancelled" // by a person; what was judged until then stands
	Failed    State = "failed"    // for a reason that is told
)

// Final reports whether nothing more will happen.
func (s State) Final() bool { return s == Finished || s == Cancelled || s == Failed }

// Audit is one run over the estate, judged as of its end by the policies that are assigned.
type Audit struct {
	ID         int64
	State      State
	CreatedAt  time.Time
	FinishedAt *time.Time
	Failure    string
	ByName     string // who began it
	Schedule   string // or which schedule, with its settings as they were

	ScheduleSettings *api.ScheduleSettings `gorm:"serializer:json"`

	JudgeQueued bool     // a job that judges is on the queue
	Summary     *Summary `gorm:"serializer:json"` // nil of one from before it was kept
}

// Examination is one endpoint in one audit.
type Examination struct {
	AuditID    int64           `gorm:"primaryKey"`
	EndpointID int64           `gorm:"primaryKey"`
	Facts      *facts.Endpoint `gorm:"serializer:json"`
	Unexamined string          // why it was not examined
	Verdict    string
	Judgement  *judge.Judgement `gorm:"serializer:json"`
	Stage      Stage            `gorm:"default:new"`
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
	Vantage     string // from where; "" is where the service itself is
	Address     string // "" where the name is looked up at the vantage
	ServerName  string
	State       string
	Observation *facts.Observation `gorm:"serializer:json"`
	Lookup      *facts.Endpoint    `gorm:"serializer:json"` // without an address: what the name led to there
	Failure     string
}

// Finding is one thing wrong, across audits.
type Finding struct {
	ID           string `gorm:"primaryKey"`
	EndpointID   *int64 // of findings about endpoints
	HoldingID    *int64 // of findings about files of a holding
	Path         string // of the file
	Code         string
	Cause        string // what it has in common with others
	CauseAbout   string
	Severity     string
	Finding      judge.Finding `gorm:"serializer:json"`
	State        life.State
	FirstSeen    time.Time
	LastSeen     time.Time
	GoneAt       *time.Time
	Acknowledged *api.Acknowledgement `gorm:"serializer:json"`
	Waived       bool                 // by a policy or a person
	AuditID      *int64
}

func (f Finding) life() life.Life {
	return life.Life{State: f.State, FirstSeen: f.FirstSeen, LastSeen: f.LastSeen, GoneAt: f.GoneAt}
}

func (f *Finding) lives(l life.Life) {
	f.State, f.FirstSeen, f.LastSeen, f.GoneAt = l.State, l.FirstSeen, l.LastSeen, l.GoneAt
}
