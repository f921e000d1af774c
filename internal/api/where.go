package api

import (
	"time"

	"nurvik/core/pki"
)

// Where is every place of what was looked for.
type Where struct {
	What    string       `json:"what"`
	Places  []WherePlace `json:"places" doc:"Those of now in front, the latest first"`
	SameKey []WhereOther `json:"same_key" doc:"Other certificates on the keys that were found"`
	Before  []WhereOther `json:"before" doc:"Older certificates for the same names"`
	After   []WhereOther `json:"after" doc:"Newer certificates for the same names"`
	More    int          `json:"more,omitempty" doc:"How many more places there are"`
}

// WherePlace is one place of a certificate, key or request.
type WherePlace struct {
	Kind        string          `json:"kind" enum:"endpoint,file,configuration" doc:"What the place is"`
	Name        string          `json:"name" doc:"The endpoint, the file, or the file of the configuration"`
	Holding     string          `json:"holding,omitempty" doc:"The machine, where a service tells"`
	Address     string          `json:"address,omitempty" doc:"Of an endpoint"`
	Line        int             `json:"line,omitempty"`
	Alias       string          `json:"alias,omitempty" doc:"In a keystore"`
	What        string          `json:"what" enum:"certificate,private-key,public-key,request" doc:"What lies there"`
	By          string          `json:"by" doc:"By what it was found: fingerprint, key, serial number, name or subject"`
	Label       string          `json:"label"`
	Certificate pki.Fingerprint `json:"certificate,omitzero"`
	Serial      string          `json:"serial,omitempty"`
	NotBefore   *time.Time      `json:"not_before,omitempty"`
	NotAfter    *time.Time      `json:"not_after,omitempty"`
	Now         bool            `json:"now" doc:"It is there by the latest that is known"`
	Since       *time.Time      `json:"since,omitempty" doc:"First seen, where a service tells"`
	Until       *time.Time      `json:"until,omitempty" doc:"Last seen"`
}

// WhereOther is a certificate that has to do with what was found.
type WhereOther struct {
	Label       string          `json:"label"`
	Certificate pki.Fingerprint `json:"certificate"`
	Serial      string          `json:"serial"`
	NotBefore   *time.Time      `json:"not_before,omitempty"`
	NotAfter    *time.Time      `json:"not_after,omitempty"`
	Places      []string        `json:"places" doc:"The first"`
}
