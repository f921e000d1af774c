package api

import "nurvik/core/facts"

// DeliveryStart begins a delivery: what a machine holds, or an estate, sent in
// parts. A part is a few JSON lines. Nothing counts until the delivery is
// finished; then all of it does.
type DeliveryStart struct {
	Kind    string          `json:"kind" enum:"holding,estate"`
	Digest  string          `json:"digest" minLength:"16" maxLength:"128" pattern:"^[0-9a-f]+$" doc:"Of what will be sent, such as its SHA-256: begun again with the same one, an interrupted delivery goes on where it was"`
	Holding *HoldingHeader  `json:"holding,omitempty" doc:"Of the kind holding: each line is the facts of one file, or a SameFile"`
	Estate  *EstateDelivery `json:"estate,omitempty" doc:"Of the kind estate: each line is an EstateLine"`
}

// HoldingHeader is what is said of a holding beside its files.
type HoldingHeader struct {
	Name      string   `json:"name" minLength:"1" maxLength:"253" doc:"Of the machine"`
	Policy    string   `json:"policy,omitempty" maxLength:"100" doc:"For a holding that is new; default open-web"`
	Trust     []string `json:"trust,omitempty" maxItems:"50" doc:"For a holding that is new: trust stores of which one must accept; none means the system's"`
	Audiences []string `json:"audiences,omitempty" maxItems:"50" doc:"For a holding that is new: trust stores that must all accept"`
}

// HoldingFacts is what a machine holds on disk, as facts: the public side of
// everything and no private part of any key.
type HoldingFacts struct {
	HoldingHeader
	Files []facts.File
}

// SameFile is the line of a holding's file that has not changed.
type SameFile struct {
	Path string `json:"path"`
	Same string `json:"same" doc:"SHA-256 of the line by which it was sent before, without its end"`
}

// EstateDelivery is what is said of an estate beside its lines.
type EstateDelivery struct {
	Replace bool `json:"replace,omitempty" doc:"Remove endpoints that are not in it"`
}

// EstateLine is one line of an estate: one of these.
type EstateLine struct {
	Store    *TrustStore       `json:"store,omitempty"`
	Policy   *NamedPolicy      `json:"policy,omitempty"`
	Endpoint *EndpointSettings `json:"endpoint,omitempty"`
}

// Delivery is how far a delivery is.
type Delivery struct {
	ID       int64           `json:"id"`
	NextPart int             `json:"next_part" doc:"Number of the part that is waited for, from 1; parts before it were taken"`
	Lines    int             `json:"lines" doc:"Taken so far"`
	Result   *DeliveryResult `json:"result,omitempty" doc:"Set once it is finished"`
}

// DeliveryFinish says that nothing more comes.
type DeliveryFinish struct {
	Lines int `json:"lines" minimum:"0" doc:"How many were sent in all"`
}

// DeliveryResult is what became of a delivery.
type DeliveryResult struct {
	Holding  *Holding  `json:"holding,omitempty"`
	Imported *Imported `json:"imported,omitempty"`
}

// PartMedia is the type of a part: JSON texts, each on a line of its own.
const PartMedia = "application/jsonl"

// Limits of deliveries, in bytes and lines.
const (
	MaxPart  = 32 << 20 // bytes of a part, and so of a line
	MaxLines = 2_000_000
)
