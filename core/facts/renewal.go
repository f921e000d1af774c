package facts

// Renewal is what the next renewal of an endpoint's certificates will meet. It is there where it was asked for.
type Renewal struct {
	Names   []RenewalName `json:"names" doc:"Of the certificates that are served, in their order"`
	NotSeen int           `json:"not_seen,omitempty" doc:"Names that were not looked at, because there are too many"`
}

// RenewalName is what was learnt of one name.
type RenewalName struct {
	Name      string     `json:"name" doc:"As the certificate has it; a wildcard is asked about as the name below it"`
	Lookups   []Lookup   `json:"lookups,omitempty" doc:"Where the name leads, one for each name server"`
	CAA       []CAA      `json:"caa,omitempty"`
	CAAAt     string     `json:"caa_at,omitempty" doc:"The name at which those were found, going up"`
	Challenge *Challenge `json:"challenge,omitempty" doc:"The name for DNS validation (RFC 8555, 8.4)"`
	Pages     []Plain    `json:"pages,omitempty" doc:"What each address of the endpoint that the name leads to says of the path for HTTP validation (RFC 8555, 8.3)"`
	Failures  []Reason   `json:"failures,omitempty" doc:"What could not be learnt"`
}

// Lookup is what one name server said of the addresses of a name.
type Lookup struct {
	Server    string   `json:"server"`
	Addresses []string `json:"addresses,omitempty"`
	Failure   Reason   `json:"failure,omitzero"`
}

// Challenge is what stands at the name for DNS validation.
type Challenge struct {
	Name    string   `json:"name"`
	LeadsTo []string `json:"leads_to,omitempty" doc:"Where CNAME records lead, one after another"`
	Own     bool     `json:"own,omitempty" doc:"The name, or where it leads, is a zone of its own"`
	Tokens  []string `json:"tokens,omitempty" doc:"TXT records that have the form of an answer to a challenge"`
	Nowhere Reason   `json:"nowhere,omitzero" doc:"Why nothing can be put where it leads"`
}

// Delegated reports whether the answers to challenges are given elsewhere than in the zone of the name.
func (c *Challenge) Delegated() bool { return c != nil && (len(c.LeadsTo) > 0 || c.Own) }
