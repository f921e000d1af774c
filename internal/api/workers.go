package api

import "time"

// Worker is a process that visits and judges: the service itself, or one that only works.
type Worker struct {
	Name    string    `json:"name" doc:"Of the instance"`
	Kind    string    `json:"kind" enum:"serve,work" doc:"serve also serves the API and the console"`
	Vantage string    `json:"vantage,omitempty" doc:"From where it visits: one that only works does nothing else"`
	Host    string    `json:"host,omitempty"`
	Through string    `json:"through,omitempty" doc:"The instance of the service whose API it uses, where it does not reach the database itself"`
	Version string    `json:"version,omitempty"`
	Started time.Time `json:"started"`
	Seen    time.Time `json:"seen" doc:"When it said last that it lives; 15 seconds later its jobs are taken by others"`
	Running int       `json:"running" doc:"Visits that are under way"`
	Visits  int       `json:"visits" doc:"Visits at once, at most"`
}
