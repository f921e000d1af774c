package api

import "time"

// Policy is a policy that the service judges by.
type Policy struct {
	Name      string    `json:"name"`
	Tag       string    `json:"tag" doc:"Changes with what is set of it; as If-Match it keeps a change from undoing another one"`
	About     string    `json:"about,omitempty"`
	Builtin   bool      `json:"builtin" doc:"It comes with the service and cannot be changed"`
	Version   int       `json:"version,omitempty" doc:"The newest; none of built-in ones"`
	UpdatedAt time.Time `json:"updated_at"`
	Endpoints int       `json:"endpoints" doc:"How many are assigned to it"`
	Holdings  int       `json:"holdings" doc:"How many are assigned to it"`
}

// PolicyText is one version of a policy with its text.
type PolicyText struct {
	Policy
	Text string `json:"text" doc:"YAML, as docs/policy-file.md describes"`
}

// PolicySave is a policy to be kept.
type PolicySave struct {
	Text string `json:"text" minLength:"1" maxLength:"200000" doc:"YAML, as docs/policy-file.md describes. Its name is the one in the address"`
}
