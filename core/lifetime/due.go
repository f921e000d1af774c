package lifetime

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"nurvik/core/pki"
)

// Kind says what it is that ends.
type Kind string

// The kinds of things that end.
const (
	Leaf         Kind = "leaf"
	Intermediate Kind = "intermediate"
	Anchor       Kind = "anchor"
	List         Kind = "CRL"
	Staple       Kind = "stapled response"
)

// Due is one thing that ends, and when.
type Due struct {
	Kind   Kind            `json:"kind" enum:"leaf,intermediate,anchor,CRL,stapled response"`
	Label  string          `json:"label"`
	Names  []string        `json:"names,omitempty"`
	Issuer string          `json:"issuer,omitempty"`
	SHA256 pki.Fingerprint `json:"sha256,omitzero" doc:"Of certificates"`
	From   time.Time       `json:"from,omitzero"`
	Until  time.Time       `json:"until,omitzero" doc:"Zero when it cannot be read: then it has ended"`
	Renew  *time.Time      `json:"renew,omitempty" doc:"When its renewal is due; of leaves"`
	State  string          `json:"state" enum:"expired,expires-soon,renewal-due,in-date,not-yet-valid" doc:"By the dates alone"`
	Places []string        `json:"places" doc:"Files and endpoints that have it"`
	Public bool            `json:"public,omitempty" doc:"Its issuers lead, by their names, to a public root"`
}

// Renewal says when a leaf should be replaced: so long before its end, or when
// no more than this share of its lifetime is left.
type Renewal struct {
	Before Seconds // 0 for by share
	Share  float64
}

// Third is usual: a certificate is replaced when a third of its lifetime is left.
var Third = Renewal{Share: 1.0 / 3}

// ParseRenewal reads days such as 30d, or a share such as 1/3 or 0.25.
func ParseRenewal(text string) (Renewal, error) {
	wrong := fmt.Errorf("%q is neither days, such as 30d, nor a share of the lifetime, such as 1/3 or 0.25", text)
	if days, ok := strings.CutSuffix(text, "d"); ok {
		n, err := strconv.ParseInt(days, 10, 32)
		if err != nil || n < 1 || n > 3650 {
			return Renewal{}, wrong
		}
		return Renewal{Before: Seconds(n) * Day}, nil
	}
	above, below, fraction := strings.Cut(text, "/")
	share, err := strconv.ParseFloat(above, 64)
	if err == nil && fraction {
		var by float64
		if by, err = strconv.ParseFloat(below, 64); err == nil {
			share /= by
		}
	}
	if err != nil || !(share > 0 && share < 1) {
		return Renewal{}, wrong
	}
	return Renewal{Share: share}, nil
}

// left is how much of a lifetime is left when renewal is due.
func (r Renewal) left(life Seconds) Seconds {
	if r.Before > 0 {
		return min(r.Before, life-1)
	}
	return Seconds(float64(life) * r.Share)
}

// From is when the renewal of something that is valid from then until then is due.
func (r Renewal) From(from, until time.Time) time.Time {
	return until.Add(-time.Duration(min(r.left(Between(from, until)+1), maxDuration)) * time.Second)
}

// maxDuration is the longest span that a time.Duration holds, in seconds.
const maxDuration = Seconds(1<<63-1) / Seconds(time.Second)

// StateOf is where in its life something is at the moment.
func (r Renewal) StateOf(kind Kind, from, until, at time.Time) string {
	switch {
	case until.IsZero(), at.After(until):
		return "expired"
	case !from.IsZero() && at.Before(from):
		return "not-yet-valid"
	case kind == Leaf && !from.IsZero() && Between(at, until) < min(14*Day, (Between(from, until)+1)/10):
		return "expires-soon"
	case kind == Leaf && !from.IsZero() && !at.Before(r.From(from, until)):
		return "renewal-due"
	}
	return "in-date"
}

// Sort puts what ends first in front.
func Sort(dues []Due) {
	slices.SortStableFunc(dues, func(a, b Due) int {
		if c := a.Until.Compare(b.Until); c != 0 {
			return c
		}
		return strings.Compare(a.Label, b.Label)
	})
}
