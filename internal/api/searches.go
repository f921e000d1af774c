package api

import (
	"time"

	"nurvik/core/proposal"
)

// SearchStart asks for a search of networks for endpoints.
type SearchStart struct {
	Networks []string `json:"networks,omitempty" maxItems:"100" doc:"Such as 10.20.0.0/24, in those that may be searched; none for all of them"`
	Ports    []uint16 `json:"ports,omitempty" maxItems:"1000" doc:"Of those that may be searched there; none for all of them"`
}

// Search is a search of networks for endpoints.
type Search struct {
	ID         int64           `json:"id"`
	State      string          `json:"state" enum:"searching,finished,cancelled,failed"`
	Ranges     proposal.Ranges `json:"ranges"`
	By         string          `json:"by" doc:"Who began it"`
	CreatedAt  time.Time       `json:"created_at"`
	FinishedAt *time.Time      `json:"finished_at,omitempty"`
	Failure    string          `json:"failure,omitempty"`
	Size       int             `json:"size" doc:"Places: each port of each address is one"`
	Done       int             `json:"done" doc:"Places that have been looked at"`
	Found      int             `json:"found" doc:"Places that answered TLS"`
	Others     int             `json:"others" doc:"Places that answered something else"`
}

// Searches are the networks that may be searched, and the searches until now.
type Searches struct {
	Allowed proposal.Ranges `json:"allowed" doc:"Networks that may be searched, with their ports; empty where the service was not started with any"`
	Items   []Search        `json:"items" doc:"The newest first"`
}
