package facts

import (
	"time"

	"nurvik/core/pki"
)

// RevocationSource is who says whether a certificate is revoked.
type RevocationSource string

// The sources.
const (
	FromList      RevocationSource = "list"      // a revocation list (RFC 5280, 5)
	FromResponder RevocationSource = "responder" // an OCSP responder (RFC 6960)
	Stapled       RevocationSource = "stapled"   // a responder's answer that the endpoint sent (RFC 6066, 8)
)

// RevocationStatus is what came of asking.
type RevocationStatus string

// The statuses. Only the first two are answers about the certificate.
const (
	RevocationGood        RevocationStatus = "good"
	RevocationRevoked     RevocationStatus = "revoked"
	RevocationBadAnswer   RevocationStatus = "bad-answer"  // an answer that proves nothing
	RevocationUnreachable RevocationStatus = "unreachable" // no answer
)

// Revocation is what one source said of one certificate.
type Revocation struct {
	Certificate pki.Fingerprint  `json:"certificate"`
	Source      RevocationSource `json:"source" enum:"list,responder,stapled"`
	Places      []string         `json:"places,omitempty" doc:"Addresses that were asked"`
	At          time.Time        `json:"at" doc:"When it was asked"`
	Status      RevocationStatus `json:"status" enum:"good,revoked,bad-answer,unreachable"`
	Detail      Reason           `json:"detail,omitzero" doc:"Why it is no answer"`
	ThisUpdate  *time.Time       `json:"this_update,omitempty"`
	NextUpdate  *time.Time       `json:"next_update,omitempty" doc:"When newer information was promised"`
	RevokedAt   *time.Time       `json:"revoked_at,omitempty"`
	Reason      string           `json:"reason,omitempty"`
	Signer      string           `json:"signer,omitempty" doc:"Who signed the answer, where it is not the issuer itself"`
	Nonce       string           `json:"nonce,omitempty" enum:",same,absent" doc:"Of a responder's answer (RFC 9654)"`
}

// Fetched is an issuer's certificate that came from the address in a certificate.
type Fetched struct {
	Place        string   `json:"place"`
	Certificates [][]byte `json:"certificates,omitempty"`
	Failure      Reason   `json:"failure,omitzero"`
}
