// Package life is the life of a finding over the audits of its endpoint or
// holding. It is pure: a table of what was before and what was seen now.
package life

import "time"

// State is where a finding is in its life.
type State string

// The states.
const (
	New      State = "new"      // seen for the first time
	Standing State = "standing" // seen before too
	Gone     State = "gone"     // no longer seen
	Back     State = "back"     // was gone and is seen again
)

// Life is a finding's state with the times that go with it. The zero value is
// that of a finding which was never seen.
type Life struct {
	State     State
	FirstSeen time.Time
	LastSeen  time.Time
	GoneAt    *time.Time
}

// Seen is the life of a finding that is seen at the time. A clock that was put
// back makes nothing seen earlier than it was.
func (l Life) Seen(at time.Time) Life {
	if at.Before(l.LastSeen) {
		at = l.LastSeen
	}
	switch l.State {
	case "":
		return Life{State: New, FirstSeen: at, LastSeen: at}
	case Gone:
		l.State = Back
	default:
		l.State = Standing
	}
	l.LastSeen, l.GoneAt = at, nil
	return l
}

// Unseen is the life of a finding that is not seen at the time. Where nothing
// could be said about it, as of an endpoint that does not answer, it stays as it is.
func (l Life) Unseen(at time.Time, spoken bool) Life {
	if !spoken || l.State == Gone || l.State == "" {
		return l
	}
	l.State, l.GoneAt = Gone, &at
	return l
}
