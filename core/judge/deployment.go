package judge

import (
	"time"

	"nurvik/core/pki"
)

// Deployment is what lies on disk, what is configured, and what is served at one place.
type Deployment struct {
	Endpoint   string         `json:"endpoint"`
	Server     string         `json:"server" doc:"Kind of server"`
	Machine    string         `json:"machine,omitempty" doc:"The holding that has it, where a service tells"`
	Disk       *DeployedLeaf  `json:"disk,omitempty" doc:"The newest certificate for these names in the files of the machine"`
	Configured *DeployedLeaf  `json:"configured,omitempty"`
	Served     []DeployedLeaf `json:"served,omitempty" doc:"What each address serves"`
	Agree      bool           `json:"agree" doc:"All three are the same certificate"`
}

// DeployedLeaf is a leaf at a place.
type DeployedLeaf struct {
	Certificate pki.Fingerprint `json:"certificate"`
	Label       string          `json:"label"`
	NotBefore   time.Time       `json:"not_before"`
	NotAfter    time.Time       `json:"not_after"`
	Place       string          `json:"place" doc:"A file, a line of a configuration, or an address"`
}

func deployed(c *pki.Certificate, place string) *DeployedLeaf {
	return &DeployedLeaf{c.Fingerprint(), c.Label(), c.NotBefore.UTC(), c.NotAfter.UTC(), place}
}
