package api

import "time"

// EndpointSettings is what people set of an endpoint.
type EndpointSettings struct {
	Endpoint      string            `json:"endpoint" minLength:"1" maxLength:"300" doc:"host, host:port or scheme://host:port" example:"tides.tarnholm.example:443"`
	Names         []string          `json:"names,omitempty" maxItems:"1000" doc:"Names that must be covered; none means the endpoint's own. The first host name is sent as the server name"`
	Connect       []string          `json:"connect,omitempty" maxItems:"100" doc:"ADDRESS[:PORT] to visit instead of the name's addresses"`
	HTTPPort      uint16            `json:"http_port,omitempty" doc:"Port on which plain HTTP is looked for; without it 80 beside 443"`
	ServerName    string            `json:"server_name,omitempty" maxLength:"253" doc:"Name to send in the handshake instead"`
	Authenticated bool              `json:"authenticated,omitempty" doc:"Clients check whom they speak to, also where that is not usual, as on port 25"`
	Trust         []string          `json:"trust,omitempty" maxItems:"50" doc:"Trust stores of which one must accept; none means the system's"`
	Audiences     []string          `json:"audiences,omitempty" maxItems:"50" doc:"Trust stores that must all accept"`
	Labels        map[string]string `json:"labels,omitempty"`
}

// Endpoint is an endpoint of the estate with its latest judgement in short.
type Endpoint struct {
	ID int64 `json:"id"`
	EndpointSettings
	Verdict  string     `json:"verdict" enum:",sound,at-risk,faulty,unreachable" doc:"Empty until it is judged for the first time"`
	NotAfter *time.Time `json:"not_after,omitempty" doc:"When the leaf served last expires"`
	Issuer   string     `json:"issuer,omitempty" doc:"Who issued it"`
	Faults   int        `json:"faults"`
	Risks    int        `json:"risks"`
	Notes    int        `json:"notes"`
	Codes    []string   `json:"codes" doc:"Codes of the findings, the worst first, each once"`
	JudgedAt *time.Time `json:"judged_at,omitempty"`
	AuditID  *int64     `json:"audit_id,omitempty" doc:"The audit that judged it"`
}

// EndpointPage is one page of endpoints.
type EndpointPage struct {
	Items    []Endpoint     `json:"items"`
	Next     string         `json:"next,omitempty" doc:"Cursor of the next page; absent on the last"`
	Verdicts map[string]int `json:"verdicts" doc:"Endpoints of the whole estate by verdict; the empty key counts those not judged yet"`
}

// TrustStore is a named set of anchors.
type TrustStore struct {
	Name    string   `json:"name" minLength:"1" maxLength:"100"`
	Anchors []Anchor `json:"anchors" maxItems:"10000"`
}

// Anchor is one trust anchor.
type Anchor struct {
	DER  []byte `json:"der" doc:"The certificate"`
	Kind string `json:"kind" enum:"public,private,rehearsal"`
}

// Estate is the whole estate, for import and export.
type Estate struct {
	Stores    []TrustStore       `json:"stores" maxItems:"1000"`
	Endpoints []EndpointSettings `json:"endpoints" maxItems:"100000"`
}

// EstateImport is an estate to take in.
type EstateImport struct {
	Estate
	Replace bool `json:"replace,omitempty" doc:"Remove endpoints that are not in it"`
}

// Imported says what an import did.
type Imported struct {
	Added     int `json:"added"`
	Changed   int `json:"changed"`
	Unchanged int `json:"unchanged"`
	Removed   int `json:"removed"`
}
