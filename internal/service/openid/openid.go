// Package openid lets people sign in at an OpenID Connect provider (OpenID Connect Core 1.0): the authorization code
// flow with PKCE (RFC 7636), a nonce and a role that comes from a claim. What the provider answers is checked here; who
// is let in on that ground is the business of the caller.
package openid

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"nurvik/core/plain"
	"nurvik/internal/service/auth"
)

// Settings say which provider is asked, and what its claims mean here.
type Settings struct {
	Issuer     string   // its address, as in its tokens; "" for none
	Client     string   // client ID that the provider knows this service by
	SecretFile string   // holds the client's secret; "" for a client without one
	Title      string   // what people call the provider
	NameClaim  string   // holds the name of an account
	RoleClaim  string   // holds the groups or roles
	Scopes     []string // that are asked for beside openid, profile and email
	Roles      []string // ROLE=VALUE: who has the value in the claim has the role; "*" is everybody
	Authority  string   // PEM file with the CA certificates that the provider's is trusted by; "" for the system's
	Back       string   // address that the provider sends people back to
}

// Limits of asking a provider.
const (
	answerTime = 10 * time.Second
	mostBytes  = 1 << 20 // of one answer
	mostName   = 100     // characters of an account's name
)

// Provider is one that people sign in at. It is asked for its addresses and keys when somebody first needs them, so
// that the service starts without it.
type Provider struct {
	settings Settings
	secret   string
	roles    map[auth.Role][]string
	client   *http.Client

	mutex sync.Mutex
	found *oidc.Provider
}

// Claimant is whom the provider vouches for.
type Claimant struct {
	Issuer, Subject string // who it is, for ever
	Name            string // how they are called now
	Role            auth.Role
}

// AwayError says that the provider could not be asked. It may answer later.
type AwayError struct {
	issuer string
	err    error
}

func (e *AwayError) Error() string {
	return fmt.Sprintf("%s, where people sign in, could not be asked: %v", e.issuer, e.err)
}

// Unwrap returns the cause.
func (e *AwayError) Unwrap() error { return e.err }

// RefusedError says why somebody is not let in who comes from the provider, in words for that person.
type RefusedError struct{ words string }

func (e *RefusedError) Error() string { return e.words }

// Open reads what the settings name, and asks nobody.
func Open(s Settings) (*Provider, error) {
	if s.Issuer == "" {
		return nil, nil
	}
	p := &Provider{settings: s, roles: map[auth.Role][]string{}}
	u, err := url.Parse(s.Issuer)
	switch {
	case err != nil || u.Host == "" || !allowed(u):
		return nil, fmt.Errorf("--openid-issuer: %q is no address of a provider: write https://NAME", s.Issuer)
	case s.Client == "":
		return nil, errors.New("--openid-issuer needs --openid-client, the ID that the provider gave the service")
	case s.Back == "":
		return nil, errors.New("--openid-issuer needs --public-url: the provider sends people back to it")
	case len(s.Roles) == 0:
		return nil, errors.New("--openid-issuer needs --openid-role, such as auditor=tls-team: else nobody has a role")
	}
	for _, text := range s.Roles {
		role, value, found := strings.Cut(text, "=")
		if !found || !auth.Role(role).IsPersons() || value == "" {
			return nil, fmt.Errorf("--openid-role: %q is not viewer, auditor or administrator with a value of the "+
				"claim: write auditor=tls-team", text)
		}
		p.roles[auth.Role(role)] = append(p.roles[auth.Role(role)], value)
	}
	if s.SecretFile != "" {
		secret, err := os.ReadFile(s.SecretFile)
		if err != nil {
			return nil, fmt.Errorf("--openid-secret-file: %w", err)
		}
		if p.secret = strings.TrimSpace(string(secret)); p.secret == "" {
			return nil, fmt.Errorf("--openid-secret-file: %s is empty", s.SecretFile)
		}
	}
	p.client, err = client(s.Authority)
	return p, err
}

// client reaches the provider alone: it follows no redirect, and no answer is endless.
func client(authority string) (*http.Client, error) {
	settings := &tls.Config{MinVersion: tls.VersionTLS12}
	if authority != "" {
		text, err := os.ReadFile(authority)
		if err != nil {
			return nil, fmt.Errorf("--openid-ca: %w", err)
		}
		settings.RootCAs = x509.NewCertPool()
		if !settings.RootCAs.AppendCertsFromPEM(text) {
			return nil, fmt.Errorf("--openid-ca: %s holds no certificate in PEM", authority)
		}
	}
	transport := &http.Transport{TLSClientConfig: settings, ForceAttemptHTTP2: true, MaxIdleConnsPerHost: 2,
		Proxy: http.ProxyFromEnvironment, IdleConnTimeout: time.Minute,
		DialContext: (&net.Dialer{Timeout: answerTime}).DialContext}
	return &http.Client{Transport: bounded{transport}, Timeout: answerTime,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}, nil
}

// bounded refuses plain HTTP, and cuts answers off that are too long.
type bounded struct{ next http.RoundTripper }

// RoundTrip implements http.RoundTripper.
func (b bounded) RoundTrip(r *http.Request) (*http.Response, error) {
	if !allowed(r.URL) {
		return nil, fmt.Errorf("%s is not asked: it is no HTTPS", r.URL.Redacted())
	}
	answer, err := b.next.RoundTrip(r)
	if err == nil {
		answer.Body = http.MaxBytesReader(nil, answer.Body, mostBytes)
	}
	return answer, err
}

// allowed reports whether what is sent to the address is kept from others: it is HTTPS, or this machine.
func allowed(u *url.URL) bool {
	address, err := netip.ParseAddr(u.Hostname())
	return u.Scheme == "https" || u.Scheme == "http" && err == nil && address.IsLoopback()
}

// Title is what people call the provider.
func (p *Provider) Title() string {
	if p.settings.Title != "" {
		return p.settings.Title
	}
	u, _ := url.Parse(p.settings.Issuer) // Open has parsed it
	return u.Hostname()
}

// Find asks the provider for its addresses, unless it has told them before.
func (p *Provider) Find(ctx context.Context) (*oidc.Provider, error) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	if p.found != nil {
		return p.found, nil
	}
	// The keys are fetched later too, with the context of the first call: its end must not end that.
	found, err := oidc.NewProvider(oidc.ClientContext(context.WithoutCancel(ctx), p.client), p.settings.Issuer)
	if err != nil {
		return nil, &AwayError{p.settings.Issuer, err}
	}
	p.found = found
	return found, nil
}

// Try is one sign-in that has begun: the secrets that bind the provider's answer to it.
type Try struct{ State, Nonce, Verifier string }

// Begin returns where to send a person, and what the answer is to be checked by.
func (p *Provider) Begin(ctx context.Context) (address string, try Try, err error) {
	found, err := p.Find(ctx)
	if err != nil {
		return "", try, err
	}
	try.State, _ = auth.NewSecret()
	try.Nonce, _ = auth.NewSecret()
	try.Verifier = oauth2.GenerateVerifier()
	address = p.exchange(found).AuthCodeURL(try.State, oidc.Nonce(try.Nonce), oauth2.S256ChallengeOption(try.Verifier))
	return address, try, nil
}

func (p *Provider) exchange(found *oidc.Provider) *oauth2.Config {
	return &oauth2.Config{ClientID: p.settings.Client, ClientSecret: p.secret, Endpoint: found.Endpoint(),
		RedirectURL: p.settings.Back,
		Scopes:      append([]string{oidc.ScopeOpenID, "profile", "email"}, p.settings.Scopes...)}
}

// Finish checks what a person brings back from the provider. The ID token is verified as OpenID Connect Core 1.0,
// section 3.1.3.7 wants: issuer, audience, time, signature and nonce.
func (p *Provider) Finish(ctx context.Context, try Try, code string) (who Claimant, err error) {
	found, err := p.Find(ctx)
	if err != nil {
		return who, err
	}
	ctx = oidc.ClientContext(ctx, p.client)
	tokens, err := p.exchange(found).Exchange(ctx, code, oauth2.VerifierOption(try.Verifier))
	var refused *oauth2.RetrieveError
	switch {
	case errors.As(err, &refused):
		return who, &RefusedError{"the provider did not confirm the sign-in (" + plain.Text(refused.ErrorCode) +
			"); begin again"}
	case err != nil:
		return who, &AwayError{p.settings.Issuer, err}
	}
	raw, ok := tokens.Extra("id_token").(string)
	if !ok {
		return who, &RefusedError{"the provider sent no ID token: allow this client the scope openid there"}
	}
	token, err := found.Verifier(&oidc.Config{ClientID: p.settings.Client}).Verify(ctx, raw)
	if err != nil {
		return who, &RefusedError{"the provider's ID token does not hold: " + plain.Text(err.Error())}
	}
	if token.Nonce != try.Nonce {
		return who, &RefusedError{"the provider's ID token is of another sign-in; begin again"}
	}
	claims := map[string]any{}
	if err := token.Claims(&claims); err != nil {
		return who, &RefusedError{"the provider's ID token does not hold: " + plain.Text(err.Error())}
	}
	if claims[p.settings.RoleClaim] == nil { // some providers tell groups there alone
		info, err := found.UserInfo(ctx, oauth2.StaticTokenSource(tokens))
		if err == nil && info.Subject == token.Subject {
			more := map[string]any{}
			if info.Claims(&more) == nil {
				claims[p.settings.RoleClaim] = more[p.settings.RoleClaim]
			}
		}
	}
	return p.claimant(token.Issuer, token.Subject, claims)
}

// claimant is what the claims come to here. Whoever has none of the values has no role, and is not let in.
func (p *Provider) claimant(issuer, subject string, claims map[string]any) (Claimant, error) {
	if verified, _ := claims["email_verified"].(bool); !verified {
		delete(claims, "email") // whoever has an account there may have typed it: no name, and no role
	}
	who := Claimant{Issuer: issuer, Subject: subject, Name: nameIn(claims, p.settings.NameClaim)}
	if who.Name == "" {
		return who, &RefusedError{"the provider told no name: neither " + p.settings.NameClaim + " nor email"}
	}
	values := textsIn(claims[p.settings.RoleClaim])
	for _, role := range []auth.Role{auth.Administrator, auth.Auditor, auth.Viewer} {
		for _, wanted := range p.roles[role] {
			if wanted == "*" || slices.Contains(values, wanted) {
				who.Role = role
				return who, nil
			}
		}
	}
	told := "none is told"
	if len(values) > 0 {
		told = "it holds " + plain.Text(strings.Join(values, ", "))
	}
	return who, &RefusedError{fmt.Sprintf("%s has no role here: nothing in the claim %s gives one (%s). Ask an "+
		"administrator for a group there, or for --openid-role here", who.Name, p.settings.RoleClaim, told)}
}

// nameIn is the name of an account: the claim that is named, else the email address.
func nameIn(claims map[string]any, claim string) string {
	fit := func(value any) string {
		text, _ := value.(string)
		text = strings.TrimSpace(text)
		if text != plain.Text(text) || utf8.RuneCountInString(text) > mostName {
			return ""
		}
		return text
	}
	return cmp.Or(fit(claims[claim]), fit(claims["email"]))
}

// textsIn are the texts of a claim, which may be one or a list.
func textsIn(value any) (out []string) {
	switch v := value.(type) {
	case string:
		out = append(out, v)
	case []any:
		for _, x := range v {
			if text, ok := x.(string); ok {
				out = append(out, text)
			}
		}
	}
	return out
}

// Refused says why somebody is not let in.
func Refused(words string) error { return &RefusedError{words} }
