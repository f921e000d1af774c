package api

import "nurvik/core/proposal"

// Proposal is an endpoint that was met somewhere, and that the estate may lack.
type Proposal = proposal.Proposal

// Proposals are those of the whole estate, by endpoint.
type Proposals struct {
	Items []Proposal `json:"items"`
	More  bool       `json:"more,omitempty" doc:"There are others: answer these first"`
}

// ProposalAnswer says what becomes of proposals.
type ProposalAnswer struct {
	Accept  []string     `json:"accept,omitempty" maxItems:"1000" doc:"Endpoints to add to the estate"`
	Set     BulkSettings `json:"set,omitempty" doc:"What those are set to"`
	Dismiss []string     `json:"dismiss,omitempty" maxItems:"1000" doc:"Endpoints that are not wanted: they are proposed no more"`
}

// ProposalsAnswered says what became of them.
type ProposalsAnswered struct {
	Added     int `json:"added" doc:"Those that were there already are not counted"`
	Dismissed int `json:"dismissed"`
}
