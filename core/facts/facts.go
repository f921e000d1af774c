// Package facts holds what collecting produces and judging reads: plain data
// with a stable JSON form, which is stored, sent and judged again. It knows
// neither how facts were collected nor what they mean.
package facts

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"
)

// Schema is the version of the JSON form. It grows when a reader of the old
// form would misunderstand the new one.
const Schema = "nurvik.facts/2"

// Schemas are the versions that are read and judged: the present one and, once
// there is a newer one than 2, the one before it.
var Schemas = []string{Schema}

// Readable reports whether facts of the schema are read and judged.
func Readable(schema string) bool { return slices.Contains(Schemas, schema) }

// Endpoint is all that is known of one endpoint after its visits.
type Endpoint struct {
	Schema          string        `json:"schema"`
	Endpoint        string        `json:"endpoint" doc:"Canonical form: host:port, with a scheme where the port does not tell"`
	ResolveError    Reason        `json:"resolve_error,omitzero" doc:"Why the name led to no address"`
	Vantages        []Vantage     `json:"vantages,omitempty" doc:"The vantages that the endpoint was to be visited from, with what the name led to there"`
	NoRoute         []string      `json:"no_route,omitempty" doc:"Addresses not visited, because their family has no route from here"`
	Observations    []Observation `json:"observations"`
	Unvisited       []string      `json:"unvisited,omitempty" doc:"Addresses that could not be visited, because the visiting machine had run out of something"`
	DNS             *DNS          `json:"dns,omitempty" doc:"What a name server said; absent where none was named"`
	Renewal         *Renewal      `json:"renewal,omitempty" doc:"What the next renewal will meet; absent where that was not asked for"`
	RevocationAsked bool          `json:"revocation_asked,omitempty" doc:"Issuers were asked about revocation"`
	Revocation      []Revocation  `json:"revocation,omitempty" doc:"What was learnt of the certificates on the path"`
	Fetched         []Fetched     `json:"fetched,omitempty" doc:"Issuers' certificates that were fetched because the chain lacks them"`
}

// Vantage is a place of a network that an endpoint was to be visited from, with what its name led to there.
type Vantage struct {
	Name         string `json:"name"`
	ResolveError Reason `json:"resolve_error,omitzero" doc:"Why the name led to no address there"`
	Unvisited    string `json:"unvisited,omitempty" doc:"Why nothing was looked up from there"`
}

// Place is the address, with the vantage where it was visited from one: what the same address shows to different places
// is told apart.
func (o Observation) Place() string { return PlaceFrom(o.Address.String(), o.Vantage) }

// PlaceFrom is an address as it is seen from a vantage; "" is where the service itself is.
func PlaceFrom(address, vantage string) string {
	if vantage == "" {
		return address
	}
	return address + placeMiddle + vantage
}

// AddressOf is the address of a place.
func AddressOf(place string) string {
	address, _, _ := strings.Cut(place, placeMiddle)
	return address
}

const placeMiddle = " from "

// Undecided reports whether nothing can be said of the endpoint, because no
// address answered and the machine could not visit all of them.
func (e Endpoint) Undecided() bool {
	return len(e.Unvisited) > 0 &&
		!slices.ContainsFunc(e.Observations, func(o Observation) bool { return o.Outcome == Answered })
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
	TooSlow    Outcome = "too-slow"    // an answer had begun and was not complete in time
	TooMuch    Outcome = "too-much"    // the answer did not end

	DialogueRefused Outcome = "dialogue-refused"        // a plaintext dialogue did not lead to TLS
	Early           Outcome = "plaintext-after-upgrade" // plaintext came between its go-ahead and TLS

	Busy Outcome = "busy" // the server said that it takes no connections now

	ExaminationFailed Outcome = "examination-failed" // by a defect of Nurvik itself
)

// Observation is the result of the visit to one address under one server name.
type Observation struct {
	Address           netip.AddrPort `json:"address"`
	Vantage           string         `json:"vantage,omitempty" doc:"From where it was visited; empty for where the service itself is"`
	ServerName        string         `json:"server_name" doc:"The name sent in the handshake, empty for none"`
	At                time.Time      `json:"at"`
	Outcome           Outcome        `json:"outcome" enum:"answered,refused,timeout,reset,busy,not-tls,bad-message,too-slow,too-much,dialogue-refused,plaintext-after-upgrade,examination-failed"`
	Detail            Reason         `json:"detail,omitzero" doc:"What was met"`
	Cut               Reason         `json:"cut,omitzero" doc:"Why the visit ended before everything was asked"`
	Unseen            Reason         `json:"unseen,omitzero" doc:"Why no certificate was seen although TLS was answered"`
	Versions          []Version      `json:"versions"`
	Certificates      [][]byte       `json:"certificates" doc:"DER of each certificate, as served"`
	Staple            []byte         `json:"staple,omitempty" doc:"The OCSP response that came along"`
	Timestamps        [][]byte       `json:"timestamps,omitempty" doc:"Signed certificate timestamps of the handshake"`
	Effort            Effort         `json:"effort,omitempty" enum:",quick,normal,full"`
	Others            []Served       `json:"others,omitempty" doc:"Chains served to other hellos: for another kind of key, without a server name, with a foreign one"`
	Possession        Possession     `json:"possession,omitempty" enum:",shown,failed,not-shown" doc:"Whether the handshake proved the leaf's key"`
	Groups            *Groups        `json:"groups,omitempty"`
	Settings          *Settings      `json:"settings,omitempty"`
	ClientCertificate *ClientAuth    `json:"client_certificate,omitempty" doc:"Set when a client certificate is asked for"`
	HTTP              *HTTP          `json:"http,omitempty"`
	Connections       []Connection   `json:"connections"`
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
	Name          string     `json:"name" doc:"Such as TLS 1.2"`
	Answer        Acceptance `json:"answer" enum:"accepted,declined,garbled,not-shown"`
	Suite         string     `json:"suite,omitempty" doc:"The cipher suite that the endpoint chose first"`
	Suites        []string   `json:"suites,omitempty" doc:"All that are accepted, in the order of preference where the endpoint has one"`
	Order         Order      `json:"order,omitempty" enum:",server,client,partial" doc:"Whose order of preference counts"`
	PartialSuites []string   `json:"partial_suites,omitempty" doc:"With partial order, the suites for which the client's order counts"`
	Detail        Reason     `json:"detail,omitzero" doc:"How it was declined, or why nothing was shown"`
	Cut           Reason     `json:"cut,omitzero" doc:"Why the cipher suites were not asked to the end: there may be more"`
	Resumption    Answer     `json:"resumption,omitempty" enum:",yes,no" doc:"Whether a session goes on; looked at with full effort"`
}

// Effort is how much a visit asks.
type Effort string

// The efforts.
const (
	Quick  Effort = "quick"  // versions and certificates, in at most ten connections
	Normal Effort = "normal" // everything but tolerance of large hellos and resumption
	Full   Effort = "full"
)

// ParseEffort reads the name of an effort; "" leaves it to what is visited.
func ParseEffort(text string) (Effort, error) {
	switch e := Effort(text); e {
	case "", Quick, Normal, Full:
		return e, nil
	}
	return "", fmt.Errorf("an effort is quick, normal or full, not %q", text)
}

// Order is whose order of preference counts.
type Order string

// The orders.
const (
	ServerOrder  Order = "server"
	ClientOrder  Order = "client"
	PartialOrder Order = "partial"
)

// Possession is whether the endpoint proved in the handshake that it has the leaf's key.
type Possession string

// The proofs of possession.
const (
	PossessionShown    Possession = "shown"
	PossessionFailed   Possession = "failed"
	PossessionNotShown Possession = "not-shown"
)

// Answer is a fact that is true, false, or was not shown.
type Answer string

// The answers.
const (
	Yes     Answer = "yes"
	No      Answer = "no"
	Unknown Answer = "not-shown"
)

// Served is a chain that was served to another hello than the usual.
type Served struct {
	To           string   `json:"to" enum:"other-key,no-name,foreign-name" doc:"What was different"`
	Key          string   `json:"key,omitempty" enum:",RSA,ECDSA,EdDSA" doc:"Of another kind of key, which"`
	Version      string   `json:"version,omitempty" doc:"The TLS version in which it was seen"`
	ServerName   string   `json:"server_name,omitempty"`
	Refused      Reason   `json:"refused,omitzero" doc:"How that was declined"`
	Certificates [][]byte `json:"certificates,omitempty"`
	Staple       []byte   `json:"staple,omitempty" doc:"The OCSP response that came along"`
	Timestamps   [][]byte `json:"timestamps,omitempty" doc:"Signed certificate timestamps of the handshake"`

	Possession Possession `json:"possession,omitempty" enum:",shown,failed,not-shown" doc:"Whether the handshake proved the leaf's key"`
}

// Groups are the groups for key agreement.
type Groups struct {
	Accepted    []string     `json:"accepted" doc:"In the order of preference where the endpoint has one"`
	Cut         Reason       `json:"cut,omitzero" doc:"Why the groups were not asked to the end: there may be more"`
	Order       Order        `json:"order,omitempty" enum:",server,client"`
	FiniteField *FiniteField `json:"finite_field,omitempty" doc:"Of DHE suites up to TLS 1.2"`
}

// FiniteField is a group of numbers modulo a prime.
type FiniteField struct {
	Bits  int    `json:"bits"`
	Name  string `json:"name,omitempty" doc:"Of a well-known group"`
	Prime string `json:"prime" doc:"Hexadecimal"`
}

// Settings are what single hellos show.
type Settings struct {
	RenegotiationInfo    Answer   `json:"renegotiation_info" enum:"yes,no,not-shown" doc:"RFC 5746"`
	ExtendedMasterSecret Answer   `json:"extended_master_secret" enum:"yes,no,not-shown" doc:"RFC 7627"`
	EncryptThenMAC       Answer   `json:"encrypt_then_mac" enum:"yes,no,not-shown" doc:"RFC 7366; shown by suites with CBC only"`
	Compression          Answer   `json:"compression" enum:"yes,no,not-shown"`
	FallbackSignal       Answer   `json:"fallback_signal" enum:"yes,no,not-shown" doc:"RFC 7507"`
	SessionTickets       Answer   `json:"session_tickets" enum:"yes,no,not-shown"`
	Resumption           Answer   `json:"resumption" enum:"yes,no,not-shown"`
	Heartbeat            Answer   `json:"heartbeat" enum:"yes,no,not-shown" doc:"RFC 6520"`
	DowngradeMarker      Answer   `json:"downgrade_marker" enum:"yes,no,not-shown" doc:"RFC 8446, 4.1.3"`
	ToleratesUnknown     Answer   `json:"tolerates_unknown" enum:"yes,no,not-shown" doc:"Reserved versions, suites, groups and extensions (RFC 8701)"`
	ToleratesLarge       Answer   `json:"tolerates_large" enum:"yes,no,not-shown" doc:"Hellos of more than 4 KiB"`
	ALPN                 string   `json:"alpn,omitempty" doc:"The application protocol chosen among h2 and http/1.1"`
	SignatureScheme      string   `json:"signature_scheme,omitempty" doc:"With which the handshake was signed"`
	SignatureSchemes     []string `json:"signature_schemes,omitempty" doc:"All that the endpoint signs with for its name: of TLS 1.2, and of TLS 1.3 where nothing older is accepted"`
	SignatureSchemesCut  Reason   `json:"signature_schemes_cut,omitzero" doc:"Why the schemes were not asked to the end: there may be more"`
	ToleratesNewer       Answer   `json:"tolerates_newer,omitempty" enum:",yes,no,not-shown" doc:"A hello that offers newer versions is answered with an older one"`
	NotOffered           string   `json:"not_offered,omitempty" doc:"What the endpoint chose although it was not offered"`
}

// ClientAuth is what an endpoint says that asks for a client certificate.
type ClientAuth struct {
	Issuers []string `json:"issuers,omitempty" doc:"Names of the issuers that it accepts"`
}

// Connection is the record of one connection of a visit.
type Connection struct {
	Purpose  Reason        `json:"purpose"`
	Sent     int           `json:"sent" doc:"Bytes"`
	Received int           `json:"received" doc:"Bytes"`
	Duration time.Duration `json:"duration" doc:"Nanoseconds"`
	Outcome  Reason        `json:"outcome"`
}
