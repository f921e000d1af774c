package facts

// HTTP are facts of a web server.
type HTTP struct {
	Status                  int    `json:"status,omitempty"`
	StrictTransportSecurity string `json:"strict_transport_security,omitempty" doc:"The header (RFC 6797)"`
	Plain                   *Plain `json:"plain,omitempty" doc:"The plain port; absent when it was not asked"`
}

// Plain is the answer of the plain HTTP port.
type Plain struct {
	Address  string `json:"address"`
	Failure  Reason `json:"failure,omitzero"`
	Status   int    `json:"status,omitempty"`
	Location string `json:"location,omitempty"`
}
