package facts

// DNS is what a name server said of an endpoint's name. It is asked where one
// was named.
type DNS struct {
	Server    string   `json:"server" doc:"The name server that was asked"`
	Addresses []string `json:"addresses,omitempty" doc:"Of the A and AAAA records"`
	CAA       []CAA    `json:"caa,omitempty" doc:"Who may issue certificates (RFC 8659)"`
	CAAAt     string   `json:"caa_at,omitempty" doc:"The name at which those were found, going up from the endpoint's"`
	TLSA      []TLSA   `json:"tlsa,omitempty" doc:"Which certificates are right (RFC 6698)"`
	TLSAAt    string   `json:"tlsa_at,omitempty"`
	Validated bool     `json:"validated,omitempty" doc:"The TLSA records were validated by DNSSEC, says a resolver that was declared trustworthy"`
	Failures  []Reason `json:"failures,omitempty" doc:"What could not be learnt"`
}

// CAA is one record of that type (RFC 8659, 4).
type CAA struct {
	Critical bool   `json:"critical,omitempty"`
	Tag      string `json:"tag"`
	Value    string `json:"value"`
}

// TLSA is one record of that type (RFC 6698, 2).
type TLSA struct {
	Usage    uint8  `json:"usage" doc:"0 and 1: the path is checked too; 2: the anchor; 3: the leaf"`
	Selector uint8  `json:"selector" doc:"0: the certificate, 1: its key"`
	Matching uint8  `json:"matching" doc:"0: all of it, 1: SHA-256, 2: SHA-512"`
	Data     []byte `json:"data"`
}

// Usages of TLSA records (RFC 7218, 2.1).
const (
	UsagePKIXAnchor uint8 = iota
	UsagePKIXLeaf
	UsageAnchor
	UsageLeaf
)
