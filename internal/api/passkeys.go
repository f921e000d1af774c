package api

import (
	"encoding/json"
	"time"
)

// Challenge is what a passkey is to answer, for navigator.credentials of a browser (Web Authentication).
type Challenge struct {
	Try     string          `json:"try" doc:"Goes back with the answer; good once, for five minutes"`
	Options json.RawMessage `json:"options" doc:"publicKey, in the JSON form that browsers parse"`
	Address string          `json:"address" doc:"Where browsers offer the passkeys of this service: at no other address"`
}

// ChallengeAnswer is what the browser said.
type ChallengeAnswer struct {
	Try    string          `json:"try" minLength:"1" maxLength:"100"`
	Answer json.RawMessage `json:"answer" doc:"The PublicKeyCredential in its JSON form"`
}

// PasskeyBegin asks for a new passkey.
type PasskeyBegin struct {
	Password string `json:"password" minLength:"1" maxLength:"1000" doc:"The caller's own, once more"`
}

// PasskeyStart is a new passkey.
type PasskeyStart struct {
	Name string `json:"name" minLength:"1" maxLength:"100" pattern:"^\\S(.*\\S)?$" doc:"What it is known by, such as where it lies"`
	ChallengeAnswer
}

// Passkey is one of the caller's.
type Passkey struct {
	ID        int64      `json:"id"`
	Name      string     `json:"name"`
	CreatedAt time.Time  `json:"created_at"`
	UsedAt    *time.Time `json:"used_at,omitempty"`
}

// Passkeys are those of the caller.
type Passkeys struct {
	Items   []Passkey `json:"items"`
	Address string    `json:"address,omitempty" doc:"Where browsers offer them; empty where the service has no host name for them"`
}
