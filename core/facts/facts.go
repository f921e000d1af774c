// Package facts holds what collecting produces and judging reads: plain data
// with a stable JSON form, which is stored, sent and judged again. It knows
// neither how facts were collected nor what they mean.
package facts

import (
	"net/netip"
	"time"
)

// Schema is the version of the JSON form. It grows when a reader of the old
// form would misunderstand the new one.
const Schema = "nurvik.facts/1"

// Endpoint is all that is known of one endpoint after its visits.
type Endpoint struct {
	Schema       string        `json:"schema"`
	Endpoint     string        `json:"endpoint" doc:"Canonical form: host:port, with a scheme where the port does not tell"`
	ResolveError string        `json:"resolve_error,omitempty" doc:"Why the name led to no address"`
	NoRoute      []string      `json:"no_route,omitempty" doc:"Addresses not visited, because their family has no route from here"`
	Observations []Observation `json:"observations"`
	Asked        bool          `json:"revocation_asked,omitempty" doc:"Issuers were asked about revocation"`
	Revocation   []Revocation  `json:"revocation,omitempty" doc:"What was learnt of the certificates on the path"`
	Fetched      []Fetched     `json:"fetched,omitempty" doc:"Issuers' certificates that were fetched because the chain lacks them"`
}

// Outcome is how the visit to one address ended.
type Outcome string

// The outcomes of a visit. Only Answered gives certificates and protocols.
const (
	Answered   Outcome = "answered"    // TLS was answered, if only by an alert
	Refused    Outcome = "refused"     // the connection was refused
	Timeout    Outcome = "timeout"     // no connection, or no answer in time
	Reset      Outcome = "reset"       // the connection was closed before any answer
	NotTLS     Outcome = "not-tls"     // the answer was no TLS
	BadMessage Outcome = "bad-message" // the answer was TLS records with undecodable contents
)

// Observation is the result of the visit to one address under one server name.
type Observation struct {
	Address      netip.AddrPort `json:"address"`
	ServerName   string         `json:"server_name" doc:"The name sent in the handshake, empty for none"`
	At           time.Time      `json:"at"`
	Outcome      Outcome        `json:"outcome" enum:"answered,refused,timeout,reset,not-tls,bad-message"`
	Detail       string         `json:"detail,omitempty" doc:"What was met, in words"`
	Versions     []Version      `json:"versions"`
	Certificates [][]byte       `json:"certificates" doc:"DER of each certificate, as served"`
	Staple       []byte         `json:"staple,omitempty" doc:"The OCSP response that came along"`
	Connections  []Connection   `json:"connections"`
}

// Acceptance tells whether a thing that was offered was taken.
type Acceptance string

// The answers to an offer.
const (
	Accepted Acceptance = "accepted"
	Declined Acceptance = "declined" // refused by an alert or by closing
	Garbled  Acceptance = "garbled"  // answered with something that cannot be decoded
	NotShown Acceptance = "not-shown"
)

// Version is one protocol version and whether the endpoint takes it.
type Version struct {
	Name   string     `json:"name" doc:"Such as TLS 1.2"`
	Answer Acceptance `json:"answer" enum:"accepted,declined,garbled,not-shown"`
	Suite  string     `json:"suite,omitempty" doc:"The cipher suite that the endpoint chose"`
	Detail string     `json:"detail,omitempty" doc:"How it was declined, or why nothing was shown"`
}

// Connection is the record of one connection of a visit.
type Connection struct {
	Purpose  string        `json:"purpose"`
	Sent     int           `json:"sent" doc:"Bytes"`
	Received int           `json:"received" doc:"Bytes"`
	Duration time.Duration `json:"duration_ns" doc:"Nanoseconds"`
	Outcome  string        `json:"outcome"`
}
