package api

import (
	"time"

	"nurvik/core/judge"
)

// Cause is what findings at some places have in common: they go away by one repair, made once or everywhere alike.
type Cause struct {
	ID           string         `json:"id" doc:"The same in every audit"`
	Code         string         `json:"code"`
	Title        string         `json:"title"`
	Why          string         `json:"why"`
	Severity     judge.Severity `json:"severity" enum:"fault,risk,note,none" doc:"The worst of them"`
	About        string         `json:"about,omitempty" doc:"The certificate, issuer or setting; absent where it is the code alone"`
	Findings     int            `json:"findings"`
	Endpoints    int            `json:"endpoints"`
	Holdings     int            `json:"holdings"`
	Acknowledged int            `json:"acknowledged" doc:"How many of the findings somebody has seen"`
	FirstSeen    time.Time      `json:"first_seen"`
	Message      string         `json:"message,omitempty" doc:"Absent where the findings do not all say the same"`
	Remedy       string         `json:"remedy" doc:"Of the findings, or in general where they differ"`
}

// CausePage is one page of causes.
type CausePage struct {
	Items []Cause `json:"items"`
	Next  string  `json:"next,omitempty"`
}
