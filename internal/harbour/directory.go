package harbour

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"maps"
	"net/http"
	"net/url"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// Directory is the harbour's OpenID provider (OpenID Connect Core 1.0): everybody who comes is signed in as the person
// of the claims. It checks what a client sends as a real one would.
type Directory struct {
	Client, Secret string

	mutex  sync.Mutex
	issuer string
	key    *rsa.PrivateKey
	claims map[string]any // of the ID token, above the usual ones
	more   map[string]any // of the user info
	codes  map[string]grant
	signer *rsa.PrivateKey
}

// grant is what a code stands for.
type grant struct{ nonce, challenge, redirect string }

// NewDirectory makes a provider that knows one client.
func NewDirectory(client, secret string) *Directory {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		panic(err) // crypto/rand never fails
	}
	return &Directory{Client: client, Secret: secret, key: key, signer: key, codes: map[string]grant{}}
}

// At sets where it is reached.
func (d *Directory) At(issuer string) { d.issuer = issuer }

// Say sets the claims of whoever signs in next: those of the ID token, and further ones of the user info.
func (d *Directory) Say(token, info map[string]any) {
	d.mutex.Lock()
	defer d.mutex.Unlock()
	d.claims, d.more = token, info
}

// Forge has tokens signed with another key than the one that is published, until it is called again.
func (d *Directory) Forge(on bool) {
	d.mutex.Lock()
	defer d.mutex.Unlock()
	if d.signer = d.key; on {
		d.signer, _ = rsa.GenerateKey(rand.Reader, 2048) // crypto/rand never fails
	}
}

// ServeHTTP implements http.Handler.
func (d *Directory) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	d.mutex.Lock()
	defer d.mutex.Unlock()
	switch r.URL.Path {
	case "/.well-known/openid-configuration":
		answer(w, http.StatusOK, map[string]any{"issuer": d.issuer, "authorization_endpoint": d.issuer + "/authorize",
			"token_endpoint": d.issuer + "/token", "jwks_uri": d.issuer + "/keys",
			"userinfo_endpoint":        d.issuer + "/user",
			"response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"},
			"id_token_signing_alg_values_supported": []string{"RS256"}})
	case "/keys":
		answer(w, http.StatusOK, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: &d.key.PublicKey, KeyID: "tide",
			Algorithm: "RS256", Use: "sig"}}})
	case "/authorize":
		d.authorize(w, r)
	case "/token":
		d.token(w, r)
	case "/user":
		info := map[string]any{"sub": d.claims["sub"]}
		maps.Copy(info, d.more)
		answer(w, http.StatusOK, info)
	default:
		http.NotFound(w, r)
	}
}

func (d *Directory) authorize(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	back, err := url.Parse(q.Get("redirect_uri"))
	if err != nil || q.Get("client_id") != d.Client || q.Get("response_type") != "code" ||
		q.Get("code_challenge_method") != "S256" || q.Get("nonce") == "" || q.Get("state") == "" {
		http.Error(w, "this is no request of a client that is known here", http.StatusBadRequest)
		return
	}
	code := rand.Text()
	d.codes[code] = grant{q.Get("nonce"), q.Get("code_challenge"), q.Get("redirect_uri")}
	back.RawQuery = url.Values{"code": {code}, "state": {q.Get("state")}}.Encode()
	http.Redirect(w, r, back.String(), http.StatusFound)
}

func (d *Directory) token(w http.ResponseWriter, r *http.Request) {
	client, secret, basic := r.BasicAuth()
	if basic { // both are form-encoded (RFC 6749, 2.3.1)
		client, _ = url.QueryUnescape(client)
		secret, _ = url.QueryUnescape(secret)
	} else {
		client, secret = r.PostFormValue("client_id"), r.PostFormValue("client_secret")
	}
	code := r.PostFormValue("code")
	given, known := d.codes[code]
	delete(d.codes, code)
	sum := sha256.Sum256([]byte(r.PostFormValue("code_verifier")))
	switch {
	case client != d.Client || secret != d.Secret:
		answer(w, http.StatusUnauthorized, map[string]any{"error": "invalid_client"})
	case !known || given.redirect != r.PostFormValue("redirect_uri") ||
		given.challenge != base64.RawURLEncoding.EncodeToString(sum[:]):
		answer(w, http.StatusBadRequest, map[string]any{"error": "invalid_grant"})
	default:
		claims := map[string]any{"iss": d.issuer, "aud": d.Client, "nonce": given.nonce, "iat": time.Now().Unix(),
			"exp": time.Now().Add(time.Minute).Unix()}
		maps.Copy(claims, d.claims)
		answer(w, http.StatusOK, map[string]any{"access_token": rand.Text(), "token_type": "Bearer",
			"id_token": d.signed(claims)})
	}
}

// signed is the claims as a signed token (RFC 7519).
func (d *Directory) signed(claims map[string]any) string {
	text, err := json.Marshal(claims)
	if err != nil {
		panic(err) // they are the caller's, and plain
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256,
		Key: jose.JSONWebKey{Key: d.signer, KeyID: "tide"}}, nil)
	if err != nil {
		panic(err)
	}
	object, err := signer.Sign(text)
	if err != nil {
		panic(err)
	}
	out, _ := object.CompactSerialize() // it has one signature
	return out
}

func answer(w http.ResponseWriter, status int, value any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(value) // the peer may be gone
}
