package api

import (
	"time"

	"nurvik/core/lifetime"
	"nurvik/core/naming"
	"nurvik/core/pki"
)

// Due is one certificate that ends, and when.
type Due struct {
	Kind   lifetime.Kind   `json:"kind" enum:"leaf,intermediate,anchor"`
	Label  string          `json:"label"`
	Names  []string        `json:"names" doc:"The first of its names"`
	Issuer string          `json:"issuer"`
	SHA256 pki.Fingerprint `json:"sha256"`
	From   *time.Time      `json:"from,omitempty"`
	Until  *time.Time      `json:"until,omitempty" doc:"Absent when it cannot be read: then it has ended"`
	Renew  *time.Time      `json:"renew,omitempty" doc:"When its renewal is due; of leaves"`
	State  string          `json:"state" enum:"expired,expires-soon,renewal-due,in-date,not-yet-valid" doc:"By the dates alone"`
	Public bool            `json:"public" doc:"Its issuers lead, by their names, to a public root"`
	Places []DuePlace      `json:"places" doc:"The first that have it"`
	More   int             `json:"more,omitempty" doc:"How many more places have it"`
}

// DuePlace is an endpoint, or a file of a holding.
type DuePlace struct {
	EndpointID *int64 `json:"endpoint_id,omitempty"`
	HoldingID  *int64 `json:"holding_id,omitempty"`
	Name       string `json:"name" doc:"The endpoint, or the holding and the path in it"`
}

// DuePage is one page of what ends, the first in front.
type DuePage struct {
	Items  []Due          `json:"items"`
	Next   string         `json:"next,omitempty" doc:"Cursor of the next page; absent on the last"`
	Total  int            `json:"total" doc:"How many there are on all pages"`
	States map[string]int `json:"states" doc:"Of all that the search finds, by state"`
}

// Timeline is what ends on which day.
type Timeline struct {
	From  string    `json:"from" doc:"The first day that is shown, such as 2026-12-01"`
	Until string    `json:"until" doc:"The last"`
	Past  int       `json:"past" doc:"How many ended before"`
	Later int       `json:"later" doc:"How many end after that"`
	Days  []DueDay  `json:"days" doc:"Those on which something ends"`
	At    time.Time `json:"at"`
}

// DueDay is a day on which something ends.
type DueDay struct {
	Day    string        `json:"day"`
	Kind   lifetime.Kind `json:"kind" enum:"leaf,intermediate,anchor"`
	Count  int           `json:"count"`
	State  string        `json:"state" enum:"expired,expires-soon,renewal-due,in-date,not-yet-valid" doc:"The worst of them"`
	Labels []string      `json:"labels" doc:"The first of them"`
	Place  *DuePlace     `json:"place,omitempty" doc:"Where the first of them is"`
}

// Coverage is needed names against the certificates of the estate.
type Coverage struct {
	Covered bool `json:"covered" doc:"Each name is covered by one of the certificates"`
	naming.Matrix
}
