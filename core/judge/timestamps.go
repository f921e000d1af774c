package judge

import (
	"encoding/base64"
	"time"

	"nurvik/core/pki"
)

// ShownTimestamp is the promise of a log to publish the certificate (RFC 6962, 3.2).
type ShownTimestamp struct {
	From string    `json:"from" enum:"certificate,handshake,ocsp-response" doc:"How it came"`
	Log  string    `json:"log" doc:"SHA-256 of the log's key, in base64"`
	At   time.Time `json:"at"`
}

// timestampsOf are those of the leaf, however they came (RFC 6962, 3.3).
func timestampsOf(b *bundle) (out []ShownTimestamp) {
	add := func(from string, list ...pki.Timestamp) {
		for _, t := range list {
			out = append(out, ShownTimestamp{from, base64.StdEncoding.EncodeToString(t.Log[:]), t.At})
		}
	}
	add("certificate", b.leaf.Timestamps()...)
	for _, one := range b.timestamps {
		if t, ok := pki.ParseTimestamp(one); ok {
			add("handshake", t)
		}
	}
	if response, err := pki.ParseOCSPResponse(b.staple); err == nil {
		for _, a := range response.Answers {
			add("ocsp-response", a.Timestamps...)
		}
	}
	return out
}
