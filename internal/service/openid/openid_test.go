package openid_test

import (
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/harbour"
	"nurvik/internal/service/auth"
	"nurvik/internal/service/openid"
)

const back = "https://nurvik.tarnholm.example/api/v1/session/openid/return"

// directory starts the harbour's provider.
func directory(t *testing.T) (*harbour.Directory, openid.Settings) {
	t.Helper()
	d := harbour.NewDirectory("nurvik", "a secret of the harbour")
	server := httptest.NewServer(d)
	t.Cleanup(server.Close)
	d.At(server.URL)
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("a secret of the harbour\n"), 0o600))
	return d, openid.Settings{Issuer: server.URL, Client: "nurvik", SecretFile: secret, Back: back,
		NameClaim: "preferred_username", RoleClaim: "groups",
		Roles: []string{"viewer=pilots", "auditor=tls-team", "administrator=masters"}}
}

// visit goes to the provider as a browser does, and returns the code that it comes back with.
func visit(t *testing.T, address string) string {
	t.Helper()
	plain := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	answer, err := plain.Get(address)
	require.NoError(t, err)
	require.NoError(t, answer.Body.Close())
	at, err := answer.Location()
	require.NoError(t, err)
	require.True(t, strings.HasPrefix(at.String(), back), at)
	return at.Query().Get("code")
}

// TestFinish: who is let in, and as what; and every way in which a token does not hold.
func TestFinish(t *testing.T) {
	d, settings := directory(t)
	p, err := openid.Open(settings)
	require.NoError(t, err)
	type claims = map[string]any
	pilot := func(change claims) claims {
		out := claims{"sub": "7", "preferred_username": "pilot", "groups": []string{"pilots", "tls-team"}}
		for k, v := range change {
			if out[k] = v; v == nil {
				delete(out, k)
			}
		}
		return out
	}
	tests := []struct {
		name    string
		token   claims
		info    claims
		change  func(*openid.Try)
		want    openid.Claimant
		refused string
	}{
		{name: "the highest role of several", token: pilot(nil),
			want: openid.Claimant{Name: "pilot", Role: auth.Auditor}},
		{name: "one group as a text", token: pilot(claims{"groups": "masters"}),
			want: openid.Claimant{Name: "pilot", Role: auth.Administrator}},
		{name: "groups in the user info alone", token: pilot(claims{"groups": nil}),
			info: claims{"groups": []string{"pilots"}},
			want: openid.Claimant{Name: "pilot", Role: auth.Viewer}},
		{name: "user info of somebody else", token: pilot(claims{"groups": nil}),
			info: claims{"sub": "8", "groups": []string{"masters"}}, refused: "pilot has no role here"},
		{name: "a verified address for a name", token: pilot(claims{"preferred_username": nil,
			"email": "pilot@tarnholm.example", "email_verified": true}),
			want: openid.Claimant{Name: "pilot@tarnholm.example", Role: auth.Auditor}},
		{name: "an address that nobody verified", token: pilot(claims{"preferred_username": nil,
			"email": "master@tarnholm.example"}), refused: "told no name"},
		{name: "a name with characters that cannot be seen",
			token: pilot(claims{"preferred_username": "ma\u202eretsa"}), refused: "told no name"},
		{name: "no group that counts", token: pilot(claims{"groups": []string{"cooks", "TLS-team"}}),
			refused: "nothing in the claim groups gives one (it holds cooks, TLS-team)"},
		{name: "no groups at all", token: pilot(claims{"groups": nil}), refused: "(none is told)"},
		{name: "for another client", token: pilot(claims{"aud": "somebody"}), refused: "does not hold"},
		{name: "of another issuer", token: pilot(claims{"iss": "https://elsewhere.example"}), refused: "does not hold"},
		{name: "expired", token: pilot(claims{"exp": time.Now().Add(-time.Hour).Unix()}), refused: "does not hold"},
		{name: "another nonce", token: pilot(claims{"nonce": "known"}), refused: "of another sign-in"},
		{name: "another verifier", token: pilot(nil), change: func(try *openid.Try) { try.Verifier += "x" },
			refused: "did not confirm the sign-in (invalid_grant)"},
	}
	finish := func(t *testing.T, change func(*openid.Try)) (openid.Claimant, error) {
		address, try, err := p.Begin(t.Context())
		require.NoError(t, err)
		code := visit(t, address)
		if change != nil {
			change(&try)
		}
		who, err := p.Finish(t.Context(), try, code)
		if err == nil {
			_, err := p.Finish(t.Context(), try, code)
			assert.ErrorContains(t, err, "invalid_grant", "a code is good once")
		}
		return who, err
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			d.Say(tt.token, tt.info)
			who, err := finish(t, tt.change)
			if tt.refused != "" {
				var refused *openid.RefusedError
				require.ErrorAs(t, err, &refused)
				assert.ErrorContains(t, err, tt.refused)
				return
			}
			require.NoError(t, err)
			tt.want.Issuer, tt.want.Subject = settings.Issuer, "7"
			assert.Equal(t, tt.want, who)
		})
	}
	t.Run("signed by another key", func(t *testing.T) {
		d.Say(pilot(nil), nil)
		d.Forge(true)
		defer d.Forge(false)
		_, err := finish(t, nil)
		assert.ErrorContains(t, err, "does not hold")
	})
	t.Run("a role by an address", func(t *testing.T) {
		byAddress := settings
		byAddress.RoleClaim, byAddress.Roles = "email", []string{"administrator=master@tarnholm.example"}
		p, err := openid.Open(byAddress)
		require.NoError(t, err)
		for _, verified := range []bool{true, false} {
			d.Say(pilot(claims{"email": "master@tarnholm.example", "email_verified": verified}), nil)
			address, try, err := p.Begin(t.Context())
			require.NoError(t, err)
			who, err := p.Finish(t.Context(), try, visit(t, address))
			assert.Equal(t, verified, err == nil && who.Role == auth.Administrator)
		}
	})
	t.Run("everybody has a role", func(t *testing.T) {
		open := settings
		open.Roles = []string{"viewer=*"}
		everybody, err := openid.Open(open)
		require.NoError(t, err)
		d.Say(pilot(claims{"groups": nil}), nil)
		address, try, err := everybody.Begin(t.Context())
		require.NoError(t, err)
		who, err := everybody.Finish(t.Context(), try, visit(t, address))
		require.NoError(t, err)
		assert.Equal(t, auth.Viewer, who.Role)
	})
}

// TestAway: a provider that does not answer, and answers that lead elsewhere.
func TestAway(t *testing.T) {
	_, settings := directory(t)
	tests := map[string]http.HandlerFunc{
		"an error": func(w http.ResponseWriter, _ *http.Request) { http.Error(w, "away", 500) },
		"a redirect": func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, settings.Issuer+"/.well-known/openid-configuration", http.StatusFound)
		},
		"another issuer": func(w http.ResponseWriter, _ *http.Request) {
			_, _ = w.Write([]byte(`{"issuer": "https://elsewhere.example"}`))
		},
		"endless": func(w http.ResponseWriter, r *http.Request) {
			for r.Context().Err() == nil {
				if _, err := w.Write([]byte(strings.Repeat(" ", 1<<16))); err != nil {
					return
				}
			}
		},
	}
	for name, handler := range tests {
		t.Run(name, func(t *testing.T) {
			server := httptest.NewServer(handler)
			defer server.Close()
			s := settings
			s.Issuer = server.URL
			p, err := openid.Open(s)
			require.NoError(t, err)
			_, _, err = p.Begin(t.Context())
			var away *openid.AwayError
			assert.ErrorAs(t, err, &away)
		})
	}
}

// TestOpen: what is wrong with the settings is told before anybody signs in.
func TestOpen(t *testing.T) {
	_, good := directory(t)
	tests := []struct {
		name   string
		change func(*openid.Settings)
		want   string
	}{
		{"plain HTTP", func(s *openid.Settings) { s.Issuer = "http://login.tarnholm.example" }, "write https://NAME"},
		{"no address", func(s *openid.Settings) { s.Issuer = "directory" }, "write https://NAME"},
		{"no client", func(s *openid.Settings) { s.Client = "" }, "--openid-client"},
		{"no way back", func(s *openid.Settings) { s.Back = "" }, "--public-url"},
		{"nobody has a role", func(s *openid.Settings) { s.Roles = nil }, "nobody has a role"},
		{"a role that there is not", func(s *openid.Settings) { s.Roles = []string{"captain=crew"} }, "captain=crew"},
		{"a role of machines", func(s *openid.Settings) { s.Roles = []string{"metrics=masters"} }, "metrics=masters"},
		{"a role of nobody", func(s *openid.Settings) { s.Roles = []string{"viewer="} }, "viewer="},
		{"no such file", func(s *openid.Settings) { s.SecretFile = "/nowhere/at/all" }, "/nowhere/at/all"},
		{"an empty file", func(s *openid.Settings) { s.SecretFile = os.DevNull }, "is empty"},
		{"no certificate", func(s *openid.Settings) { s.Authority = s.SecretFile }, "holds no certificate"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			s := good
			tt.change(&s)
			_, err := openid.Open(s)
			assert.ErrorContains(t, err, tt.want)
		})
	}
	none, err := openid.Open(openid.Settings{})
	assert.NoError(t, err)
	assert.Nil(t, none)
	p, err := openid.Open(good)
	require.NoError(t, err)
	u, err := url.Parse(good.Issuer)
	require.NoError(t, err)
	assert.Equal(t, u.Hostname(), p.Title())
}
