// Package passkey asks for a second factor beside the password: a passkey or security key, by way of the browser (Web
// Authentication, W3C). What the browser signed is checked here; who is let in on that ground is the business of the
// caller.
package passkey

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"
)

// Time is how long somebody may take to answer a challenge.
const Time = 5 * time.Minute

// ErrRefused says that an answer does not prove what was asked for.
var ErrRefused = errors.New("the passkey was not accepted")

// Keys checks passkeys for one service under one name.
type Keys struct {
	service *webauthn.WebAuthn
	address string
}

// Open prepares for the service at the address, such as https://nurvik.tarnholm.example. Browsers bind a passkey to the
// name in it, and take no IP address for one.
func Open(address string) (*Keys, error) {
	u, err := url.Parse(address)
	if err != nil {
		return nil, err
	}
	name := strings.ToLower(u.Hostname())
	if _, err := netip.ParseAddr(name); err == nil || name == "" {
		return nil, fmt.Errorf("%q has no host name, which passkeys are bound to", address)
	}
	if u.Scheme != "https" && name != "localhost" {
		return nil, fmt.Errorf("browsers offer passkeys over HTTPS alone, which %q is not", address)
	}
	origin := u.Scheme + "://" + strings.ToLower(u.Host)
	limit := webauthn.TimeoutConfig{Enforce: true, Timeout: Time, TimeoutUVD: Time}
	service, err := webauthn.New(&webauthn.Config{RPID: name, RPDisplayName: "Nurvik", RPOrigins: []string{origin},
		AttestationPreference: protocol.PreferNoAttestation,
		AuthenticatorSelection: protocol.AuthenticatorSelection{ResidentKey: protocol.ResidentKeyRequirementDiscouraged,
			UserVerification: protocol.VerificationPreferred},
		Timeouts: webauthn.TimeoutsConfig{Login: limit, Registration: limit}})
	return &Keys{service, origin}, err
}

// Address is where browsers offer the passkeys of this service.
func (k *Keys) Address() string { return k.address }

// Owner is somebody with passkeys.
type Owner struct {
	ID   int64
	Name string
	Keys []json.RawMessage // as Add returned them
}

type user struct {
	Owner
	credentials []webauthn.Credential
}

func (o Owner) user() (user, error) {
	out := user{o, make([]webauthn.Credential, len(o.Keys))}
	for i, text := range o.Keys {
		if err := json.Unmarshal(text, &out.credentials[i]); err != nil {
			return out, fmt.Errorf("passkey %d of %s as it is stored: %w", i, o.Name, err)
		}
	}
	return out, nil
}

func (u user) WebAuthnID() []byte                         { return binary.BigEndian.AppendUint64(nil, uint64(u.ID)) }
func (u user) WebAuthnName() string                       { return u.Name }
func (u user) WebAuthnDisplayName() string                { return u.Name }
func (u user) WebAuthnCredentials() []webauthn.Credential { return u.credentials }

// Ask makes what the browser is to sign with one of the owner's passkeys, and what Check needs to know of it.
func (k *Keys) Ask(o Owner) (options, challenge json.RawMessage, err error) {
	u, err := o.user()
	if err != nil {
		return nil, nil, err
	}
	asked, session, err := k.service.BeginLogin(u)
	if err != nil {
		return nil, nil, err
	}
	return both(asked.Response, session)
}

// Check returns the passkey that signed, as it is to be stored now, by its ID. ErrRefused says that none did.
func (k *Keys) Check(o Owner, challenge, answer json.RawMessage) (id []byte, key json.RawMessage, err error) {
	u, session, err := o.asked(challenge)
	if err != nil {
		return nil, nil, err
	}
	parsed, err := protocol.ParseCredentialRequestResponseBytes(answer)
	if err != nil {
		return nil, nil, refused(err)
	}
	credential, err := k.service.ValidateLogin(u, session, parsed)
	if err != nil {
		return nil, nil, refused(err)
	}
	if credential.Authenticator.CloneWarning {
		return nil, nil, refused(errors.New("its counter went back, as if there were a copy of it"))
	}
	key, err = json.Marshal(credential)
	return credential.ID, key, err
}

// AskNew makes what the browser is to make a passkey of the owner from, and what Add needs to know of it.
func (k *Keys) AskNew(o Owner) (options, challenge json.RawMessage, err error) {
	u, err := o.user()
	if err != nil {
		return nil, nil, err
	}
	asked, session, err := k.service.BeginRegistration(u,
		webauthn.WithExclusions(webauthn.Credentials(u.credentials).CredentialDescriptors()))
	if err != nil {
		return nil, nil, err
	}
	return both(asked.Response, session)
}

// Add returns a new passkey as it is to be stored, by its ID. ErrRefused says that the answer is none.
func (k *Keys) Add(o Owner, challenge, answer json.RawMessage) (id []byte, key json.RawMessage, err error) {
	u, session, err := o.asked(challenge)
	if err != nil {
		return nil, nil, err
	}
	parsed, err := protocol.ParseCredentialCreationResponseBytes(answer)
	if err != nil {
		return nil, nil, refused(err)
	}
	credential, err := k.service.CreateCredential(u, session, parsed)
	if err != nil {
		return nil, nil, refused(err)
	}
	key, err = json.Marshal(credential)
	return credential.ID, key, err
}

func (o Owner) asked(challenge json.RawMessage) (u user, session webauthn.SessionData, err error) {
	if u, err = o.user(); err == nil {
		err = json.Unmarshal(challenge, &session)
	}
	return u, session, err
}

func both(options, session any) (json.RawMessage, json.RawMessage, error) {
	first, err := json.Marshal(options)
	if err != nil {
		return nil, nil, err
	}
	second, err := json.Marshal(session)
	return first, second, err
}

func refused(err error) error {
	detail := err.Error()
	var p *protocol.Error
	if errors.As(err, &p) && p.DevInfo != "" {
		detail += ": " + p.DevInfo
	}
	return fmt.Errorf("%w: %s", ErrRefused, detail)
}
