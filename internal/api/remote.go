package api

import (
	"nurvik/core/facts"
)

// LongestTask is how long a worker may take for a visit, in seconds: as long it can keep others from the host.
const LongestTask = 600

// RemoteStart is a worker that reports for work through the API.
type RemoteStart struct {
	Name    string       `json:"name" minLength:"1" maxLength:"100" doc:"Of the instance, which no other has"`
	Host    string       `json:"host,omitempty" maxLength:"255"`
	Version string       `json:"version,omitempty" maxLength:"100"`
	Schema  string       `json:"schema" maxLength:"100" doc:"Of the facts that it produces; the service takes its own alone"`
	Effort  facts.Effort `json:"effort,omitempty" enum:",quick,normal,full" doc:"Of each visit"`
	Visits  int          `json:"visits" minimum:"1" maximum:"1000" doc:"Visits at once, at most"`
	Longest int          `json:"longest" minimum:"1" maximum:"600" doc:"How long one visit can take there, in seconds"`
}

// RemoteWork is the work of such a worker, until it ends it or is silent for half a minute.
type RemoteWork struct {
	Session string `json:"session" doc:"Goes into the path of every further call"`
	Vantage string `json:"vantage" doc:"From where it visits, which its token says"`
}

// TaskWish asks for tasks.
type TaskWish struct {
	Most  int     `json:"most" minimum:"0" maximum:"1000" doc:"As many as there is room for; 0 only says that the worker lives"`
	Holds []int64 `json:"holds,omitempty" maxItems:"1000" doc:"Tasks that it has: what it took besides was lost on the way, and is given again"`
}

// Task is one thing for a worker to do: to look up a name, or to visit an address.
type Task struct {
	ID     int64       `json:"id"`
	Lookup *LookupTask `json:"lookup,omitempty"`
	Visit  *VisitTask  `json:"visit,omitempty"`
}

// LookupTask is a name whose addresses are wanted.
type LookupTask struct {
	Endpoint string   `json:"endpoint"`
	VisitAt  []string `json:"visit_at,omitempty" doc:"Instead of the addresses of the name"`
}

// VisitTask is an address to visit.
type VisitTask struct {
	Address    string       `json:"address"`
	ServerName string       `json:"server_name,omitempty" doc:"To send; none where it is empty"`
	Scheme     string       `json:"scheme,omitempty"`
	Effort     facts.Effort `json:"effort,omitempty" enum:",quick,normal,full"`
	Web        bool         `json:"web,omitempty" doc:"The application is HTTP"`
	PlainPort  uint16       `json:"plain_port,omitempty" doc:"On which plain HTTP is looked for"`
}

// TaskResult is what came of a task. One of its parts is given.
type TaskResult struct {
	ID          int64              `json:"id" doc:"Of the task"`
	Observation *facts.Observation `json:"observation,omitempty"`
	Lookup      *LookupResult      `json:"lookup,omitempty"`
	Failure     *TaskFailure       `json:"failure,omitempty"`
}

// LookupResult is where a name leads.
type LookupResult struct {
	Visit        []string     `json:"visit,omitempty" maxItems:"256" doc:"ADDRESS:PORT of each"`
	NoRoute      []string     `json:"no_route,omitempty" maxItems:"256" doc:"Those whose family has no route from there"`
	DNS          *facts.DNS   `json:"dns,omitempty" doc:"What a name server said; absent where none was asked"`
	ResolveError facts.Reason `json:"resolve_error,omitzero" doc:"Why the name leads nowhere"`
}

// TaskFailure says why nothing was learnt.
type TaskFailure struct {
	Why   string `json:"why" enum:"busy,exhausted,refused,stopped" doc:"The host is being visited already, the machine has run out of something, it may not visit that address, or the worker stops"`
	Words string `json:"words,omitempty" maxLength:"2000"`
}
