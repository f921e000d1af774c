package auth

import "slices"

// Role is what somebody may do.
type Role string

// The roles. People have one of the first three, of which each may do what the ones before it may; tokens have one of
// all.
const (
	Viewer        Role = "viewer"        // reads
	Auditor       Role = "auditor"       // audits, and changes endpoints and holdings
	Administrator Role = "administrator" // everything
	Collect       Role = "collect"       // sends what a machine holds, and nothing else
	Metrics       Role = "metrics"       // reads the metrics, and nothing else
	Worker        Role = "worker"        // visits from one vantage through the API, and nothing else
)

// ranks are the roles of people in their order.
var ranks = []Role{Viewer, Auditor, Administrator}

// IsPersons reports whether people can have the role.
func (r Role) IsPersons() bool { return slices.Contains(ranks, r) }

// Includes reports whether whoever has the role may do what the other one may.
func (r Role) Includes(other Role) bool {
	mine, theirs := slices.Index(ranks, r), slices.Index(ranks, other)
	switch {
	case r == other:
		return true
	case theirs >= 0:
		return mine >= theirs
	case other == Collect:
		return r.Includes(Auditor)
	}
	return r == Administrator
}

// Lesser is what both roles allow: that of a token while its owner has less.
func Lesser(token, owner Role) (Role, bool) {
	switch {
	case owner.Includes(token):
		return token, true
	case token.Includes(owner):
		return owner, true
	}
	return "", false
}
