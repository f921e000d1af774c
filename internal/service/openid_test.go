package service_test

import (
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/api"
	"nurvik/internal/harbour"
	"nurvik/internal/service"
	"nurvik/internal/service/auth"
	"nurvik/internal/service/openid"
	"nurvik/internal/service/web"
)

// TestOpenID: people of the harbour's directory sign in with the role that it gives them, and nobody else does.
func TestOpenID(t *testing.T) {
	t.Parallel()
	d := harbour.NewDirectory("nurvik", "")
	provider := httptest.NewServer(d)
	t.Cleanup(provider.Close)
	d.At(provider.URL)
	listen := free()
	data := shortDirectory(t)
	address, _ := begun(t, service.Config{Data: data, Listen: listen, OpenID: openid.Settings{Issuer: provider.URL,
		Client: "nurvik", Title: "Harbour directory", NameClaim: "preferred_username", RoleClaim: "groups",
		Roles: []string{"viewer=pilots", "administrator=masters"}},
		SignIn: service.SignIn{PublicURL: "http://" + listen,
			Accounts: []service.Account{{Name: "local-master", Password: password, Role: auth.Administrator}}}})
	browser := func() *http.Client {
		jar, err := cookiejar.New(nil)
		require.NoError(t, err)
		return &http.Client{Jar: jar}
	}
	get := func(c *http.Client, path string) (int, string, *http.Response) {
		answer, err := c.Get(address + path)
		require.NoError(t, err)
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return answer.StatusCode, string(text), answer
	}
	say := func(subject, name string, groups ...string) {
		d.Say(map[string]any{"sub": subject, "preferred_username": name, "groups": groups}, nil)
	}
	const begin = "/api/v1/session/openid?to=/policies%3Fname%3D%22x"

	say("7", "pilot", "pilots")
	pilot := browser()
	code, text, last := get(pilot, begin)
	require.Equal(t, 200, code, text)
	assert.Contains(t, text, `content="0; url=/policies?name=&#34;x"`, "on to the page that was asked for")
	cookies := map[string]string{}
	for _, c := range last.Cookies() {
		cookies[c.Name] = fmt.Sprintf("%v %v %v", c.HttpOnly, c.SameSite == http.SameSiteStrictMode, c.MaxAge > 0)
	}
	assert.Equal(t, map[string]string{"nurvik": "true true true", "nurvik-openid": "true false false"}, cookies)
	code, text, _ = get(pilot, "/api/v1/session")
	require.Equal(t, 200, code)
	assert.Contains(t, text, `"name":"pilot","role":"viewer","through":"OpenID"`)
	const inTime = "SELECT count(*) FROM sessions WHERE ends_at <= created_at + interval '12 hours'"
	assert.Equal(t, 1, count(t, data, inTime))
	execute(t, data, "UPDATE sessions SET created_at = created_at - interval '11 hours', "+
		"seen_at = seen_at - interval '1 hour'")
	get(pilot, "/api/v1/session")
	assert.Equal(t, 1, count(t, data, inTime), "using it makes it no longer")

	// The same answer again, and in another browser, which a stranger may have sent there.
	returned := last.Request.URL.RequestURI()
	for name, c := range map[string]*http.Client{"again": pilot, "elsewhere": browser()} {
		code, text, _ = get(c, returned)
		assert.Equal(t, 403, code, name)
		assert.Contains(t, text, "begin again", name)
	}
	code, text, last = get(browser(), web.OpenIDPath+"?error=access_denied&state=x")
	assert.Equal(t, []any{403, true}, []any{code, strings.Contains(text, "begun no sign-in")})
	assert.Empty(t, last.Cookies(), "a sign-in that is under way goes on")

	master, err := stranger(t, address).SignIn(t.Context(), "local-master", password)
	require.NoError(t, err)
	assert.Equal(t, "session", master.Session.Through)
	local := stranger(t, address)
	_, err = local.SignIn(t.Context(), "local-master", password)
	require.NoError(t, err)
	people, err := local.People(t.Context())
	require.NoError(t, err)
	require.Len(t, people, 2)
	assert.Equal(t, provider.URL, people[1].OpenID)
	_, err = local.ChangePerson(t.Context(), people[1].ID, api.PersonChange{Role: "administrator"})
	assert.ErrorContains(t, err, "change it there")
	_, err = local.ChangePerson(t.Context(), people[1].ID, api.PersonChange{Password: password})
	assert.ErrorContains(t, err, "change it there")
	_, err = stranger(t, address).SignIn(t.Context(), "pilot", "")
	assert.Error(t, err, "there is no password")

	refused := []struct{ name, subject, called, group, want string }{
		{"no group that counts", "8", "cook", "cooks", "cook has no role here"},
		{"the name of a local account", "9", "Local-Master", "masters", "somebody here has the name"},
		{"the name of somebody else there", "9", "PILOT", "masters", "somebody here has the name"},
		{"markup for a name", "9", "<b>cook</b>", "cooks", "&lt;b&gt;cook&lt;/b&gt; has no role"},
	}
	for _, tt := range refused {
		say(tt.subject, tt.called, tt.group)
		c := browser()
		code, text, _ := get(c, begin)
		assert.Equal(t, 403, code, tt.name)
		assert.Contains(t, text, tt.want, tt.name)
		code, _, _ = get(c, "/api/v1/session")
		assert.Equal(t, 401, code, tt.name)
	}

	// Another name and role there, the same person here: what was open with the old role ends.
	say("7", "harbour-pilot", "masters")
	other := browser()
	code, _, _ = get(other, begin)
	require.Equal(t, 200, code)
	_, text, _ = get(other, "/api/v1/session")
	assert.Contains(t, text, `"name":"harbour-pilot","role":"administrator"`)
	code, _, _ = get(pilot, "/api/v1/session")
	assert.Equal(t, 401, code)
	off := true
	_, err = local.ChangePerson(t.Context(), people[1].ID, api.PersonChange{Disabled: &off})
	require.NoError(t, err)
	code, text, _ = get(browser(), begin)
	assert.Equal(t, []any{403, true}, []any{code, strings.Contains(text, "has locked harbour-pilot out")})

	log, err := local.Activity(t.Context(), "", 100)
	require.NoError(t, err)
	var told []string
	for _, a := range log.Items {
		if a.Operation == "finish-openid" {
			told = append(told, fmt.Sprintf("%s %d", a.Who, a.Status))
		}
	}
	assert.Equal(t, []string{"harbour-pilot 403", "harbour-pilot 200", "<b>cook</b> 403", "PILOT 403",
		"Local-Master 403", "cook 403", "pilot 200"}, told)

}

// TestOpenIDBeforeSetUp: whoever signs in there first takes the set-up address from nobody.
func TestOpenIDBeforeSetUp(t *testing.T) {
	t.Parallel()
	d := harbour.NewDirectory("nurvik", "")
	provider := httptest.NewServer(d)
	t.Cleanup(provider.Close)
	d.At(provider.URL)
	d.Say(map[string]any{"sub": "7", "preferred_username": "pilot"}, nil)
	listen := free()
	address, setUp := begun(t, service.Config{Data: shortDirectory(t), Listen: listen, OpenID: openid.Settings{
		Issuer: provider.URL, Client: "nurvik", NameClaim: "preferred_username", Roles: []string{"viewer=*"}},
		SignIn: service.SignIn{PublicURL: "http://" + listen}})
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	answer, err := (&http.Client{Jar: jar}).Get(address + "/api/v1/session/openid")
	require.NoError(t, err)
	require.NoError(t, answer.Body.Close())
	require.Equal(t, 200, answer.StatusCode)
	_, code, found := strings.Cut(setUp, "#")
	require.True(t, found)
	_, err = stranger(t, address).SetUp(t.Context(), api.SetUp{Code: code, Name: "Pilot", Password: password})
	assert.ErrorContains(t, err, "somebody has that name")
	session, err := stranger(t, address).SetUp(t.Context(), api.SetUp{Code: code, Name: "harbour-master",
		Password: password})
	require.NoError(t, err)
	assert.Equal(t, "administrator", session.Role)
}

// TestOpenIDAway: the service starts without its provider, and says that it is away to whoever wants to sign in there.
func TestOpenIDAway(t *testing.T) {
	t.Parallel()
	listen := free()
	address, _ := begun(t, service.Config{Data: shortDirectory(t), Listen: listen, OpenID: openid.Settings{
		Issuer: "http://" + free(), Client: "nurvik", Roles: []string{"viewer=*"}},
		SignIn: service.SignIn{PublicURL: "http://" + listen}})
	answer, err := http.Get(address + "/api/v1/session/openid")
	require.NoError(t, err)
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	assert.Equal(t, 502, answer.StatusCode)
	assert.Contains(t, string(text), "the OpenID provider could not be asked")
	assert.NotContains(t, string(text), "127.0.0.1", "why is for the log alone")
	assert.Contains(t, string(text), `<a href="/sign-in">`)
}
