package api

import "time"

// SignIn is a name with its password.
type SignIn struct {
	Name     string `json:"name" minLength:"1" maxLength:"100"`
	Password string `json:"password" minLength:"1" maxLength:"1000"`
}

// SetUp makes the first administrator.
type SetUp struct {
	Code     string `json:"code" minLength:"1" maxLength:"100" doc:"From the address that the service printed at its first start"`
	Name     string `json:"name" minLength:"1" maxLength:"100" pattern:"^\\S(.*\\S)?$"`
	Password string `json:"password" minLength:"1" maxLength:"1000"`
}

// Session is who the caller is.
type Session struct {
	Name    string     `json:"name"`
	Role    string     `json:"role" enum:"viewer,auditor,administrator,collect,metrics"`
	Through string     `json:"through" doc:"session, OpenID, token with its name, or demo: everybody on the machine is let in"`
	Label   string     `json:"label,omitempty" doc:"The caller sees and changes endpoints with this label alone, KEY=VALUE"`
	EndsAt  *time.Time `json:"ends_at,omitempty" doc:"When the session ends unless it is used"`
}

// SignedIn is the answer to name and password: the session or, for who has a passkey, what is asked of it first.
type SignedIn struct {
	Session *Session   `json:"session,omitempty"`
	Passkey *Challenge `json:"passkey,omitempty"`
}

// PasswordChange is a caller's new password.
type PasswordChange struct {
	Old string `json:"old" minLength:"1" maxLength:"1000"`
	New string `json:"new" minLength:"1" maxLength:"1000"`
}

// Person is somebody who may sign in.
type Person struct {
	ID         int64      `json:"id"`
	Name       string     `json:"name"`
	Role       string     `json:"role" enum:"viewer,auditor,administrator"`
	Disabled   bool       `json:"disabled"`
	CreatedAt  time.Time  `json:"created_at"`
	SignedInAt *time.Time `json:"signed_in_at,omitempty"`
	OpenID     string     `json:"openid,omitempty" doc:"The OpenID provider that the person signs in at; empty for a password"`
	Passkeys   int        `json:"passkeys" doc:"How many passkeys the person has, of which one is asked for beside the password"`
}

// PersonStart is somebody new.
type PersonStart struct {
	Name     string `json:"name" minLength:"1" maxLength:"100" pattern:"^\\S(.*\\S)?$"`
	Role     string `json:"role" enum:"viewer,auditor,administrator"`
	Password string `json:"password" minLength:"1" maxLength:"1000"`
}

// PersonChange is what to change of somebody; what is left out stays.
type PersonChange struct {
	Role     string `json:"role,omitempty" enum:"viewer,auditor,administrator"`
	Disabled *bool  `json:"disabled,omitempty"`
	Password string `json:"password,omitempty" maxLength:"1000"`

	RemovePasskeys bool `json:"remove_passkeys,omitempty" doc:"For somebody who has lost them: the password is enough then"`
}

// Token is a token of the API, without its text.
type Token struct {
	ID        int64      `json:"id"`
	Name      string     `json:"name"`
	Owner     string     `json:"owner"`
	Role      string     `json:"role" enum:"viewer,auditor,administrator,collect,metrics,worker"`
	Label     string     `json:"label,omitempty" doc:"It is for endpoints with this label alone, KEY=VALUE"`
	Vantage   string     `json:"vantage,omitempty" doc:"From where a worker with it visits"`
	Prefix    string     `json:"prefix" doc:"Its first characters"`
	CreatedAt time.Time  `json:"created_at"`
	ExpiresAt *time.Time `json:"expires_at,omitempty"`
	UsedAt    *time.Time `json:"used_at,omitempty" doc:"To the minute"`
}

// TokenStart is a token to make for the caller.
type TokenStart struct {
	Name    string `json:"name" minLength:"1" maxLength:"100" doc:"What it is for"`
	Role    string `json:"role" enum:"viewer,auditor,administrator,collect,metrics,worker" doc:"At most the caller's own; collect only sends what a machine holds, metrics only reads the metrics, worker only visits from its vantage"`
	Label   string `json:"label,omitempty" maxLength:"300" doc:"For endpoints with this label alone, KEY=VALUE: it sees and changes those, and may nothing that is about others too"`
	Vantage string `json:"vantage,omitempty" maxLength:"32" doc:"From where a worker with it visits; for the role worker, which needs it"`
	Days    int    `json:"days,omitempty" minimum:"1" maximum:"3650" doc:"How long it is good; for ever when left out"`
}

// NewToken is a token with its text, which is told this once.
type NewToken struct {
	Token  `json:"token"`
	Secret string `json:"secret"`
}

// Activity is one thing that somebody did.
type Activity struct {
	ID        int64     `json:"id"`
	At        time.Time `json:"at"`
	Who       string    `json:"who"`
	Through   string    `json:"through"`
	Address   string    `json:"address"`
	Operation string    `json:"operation"`
	Object    string    `json:"object,omitempty"`
	Status    int       `json:"status" doc:"HTTP status of the answer; 0 while it is under way, or when the service ended meanwhile"`
	Before    any       `json:"before,omitempty"`
	After     any       `json:"after,omitempty"`
}

// ActivityPage is a page of the activity log, the newest first.
type ActivityPage struct {
	Items []Activity `json:"items"`
	Next  string     `json:"next,omitempty"`
}
