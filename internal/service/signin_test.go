package service_test

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"io"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/api"
	"nurvik/internal/client"
	"nurvik/internal/service"
	"nurvik/internal/service/auth"
	"nurvik/internal/service/web"
)

// begun starts a service of its own, which ends with the test.
func begun(t *testing.T, c service.Config) (address, setUp string) {
	t.Helper()
	c.Silent, c.UnsafeDisk, c.Log = true, true, silent
	if c.Listen == "" {
		c.Listen = free()
	}
	ctx, cancel := context.WithCancel(context.Background())
	type place struct{ address, setUp string }
	ended, ready := make(chan error, 1), make(chan place, 1)
	go func() { ended <- service.Run(ctx, c, func(a, s string) { ready <- place{a, s} }) }()
	t.Cleanup(func() { cancel(); assert.NoError(t, <-ended) })
	select {
	case p := <-ready:
		return p.address, p.setUp
	case err := <-ended:
		ended <- nil
		require.NoError(t, err)
	}
	return "", ""
}

// stranger is a client that has shown nothing.
func stranger(t *testing.T, address string) *client.Client {
	t.Helper()
	c, err := client.New(address, "")
	require.NoError(t, err)
	return c
}

func status(err error) int {
	if p, ok := err.(*client.Problem); ok {
		return p.Status
	}
	return 0
}

// TestSignIn: from the address that the first start prints to somebody who is locked out.
func TestSignIn(t *testing.T) {
	t.Parallel()
	data := shortDirectory(t)
	address, setUp := begun(t, service.Config{Data: data})
	ctx := t.Context()
	code, found := strings.CutPrefix(setUp, address+"/set-up#")
	require.True(t, found, setUp)

	_, err := stranger(t, address).Endpoints(ctx, client.EndpointFilter{})
	assert.Equal(t, 401, status(err), "nothing is told to strangers, on this machine neither")
	first := stranger(t, address)
	_, err = first.SetUp(ctx, api.SetUp{Code: code + "x", Name: "harbour-master", Password: password})
	assert.ErrorContains(t, err, "has been used or has expired")
	_, err = first.SetUp(ctx, api.SetUp{Code: code, Name: "harbour-master", Password: "tides"})
	assert.ErrorContains(t, err, "fewer than 12 characters")
	session, err := first.SetUp(ctx, api.SetUp{Code: code, Name: "harbour-master", Password: password})
	require.NoError(t, err)
	assert.Equal(t, "administrator", session.Role)
	_, err = stranger(t, address).SetUp(ctx, api.SetUp{Code: code, Name: "somebody", Password: password})
	assert.Equal(t, 409, status(err), "it works once")

	_, err = first.AddPerson(ctx, api.PersonStart{Name: "Harbour-Master", Role: "viewer", Password: password})
	assert.ErrorContains(t, err, "somebody has that name")
	pilot, err := first.AddPerson(ctx, api.PersonStart{Name: "pilot", Role: "auditor", Password: password})
	require.NoError(t, err)
	_, err = first.ChangePerson(ctx, 1, api.PersonChange{Role: "viewer"})
	assert.ErrorContains(t, err, "only administrator")
	assert.ErrorContains(t, first.RemovePerson(ctx, 1), "only administrator")

	// The name in another case, and a second session elsewhere.
	here, elsewhere := stranger(t, address), stranger(t, address)
	for _, c := range []*client.Client{here, elsewhere} {
		_, err = c.SignIn(ctx, "Pilot", password)
		require.NoError(t, err)
	}
	_, err = here.People(ctx)
	assert.Equal(t, 403, status(err))
	assert.ErrorContains(t, here.ChangePassword(ctx, api.PasswordChange{Old: "something else", New: password}),
		"not your password")
	const other = "buoys in the morning"
	require.NoError(t, here.ChangePassword(ctx, api.PasswordChange{Old: password, New: other}))
	_, err = here.Session(ctx)
	assert.NoError(t, err, "the session that changed it goes on")
	_, err = elsewhere.Session(ctx)
	assert.Equal(t, 401, status(err), "all others have ended")
	_, err = elsewhere.SignIn(ctx, "pilot", password)
	assert.ErrorContains(t, err, "name or the password is wrong")
	_, err = elsewhere.SignIn(ctx, "pilot", other)
	require.NoError(t, err)
	require.NoError(t, elsewhere.SignOutEverywhere(ctx))
	_, err = here.Session(ctx)
	assert.Equal(t, 401, status(err))

	// A token has its owner's role at most, also after that has become less.
	_, err = here.SignIn(ctx, "pilot", other)
	require.NoError(t, err)
	_, err = here.AddToken(ctx, api.TokenStart{Name: "too much", Role: "administrator"})
	assert.ErrorContains(t, err, "at most its owner's role")
	made, err := here.AddToken(ctx, api.TokenStart{Name: "audits", Role: "auditor", Days: 1})
	require.NoError(t, err)
	assert.Equal(t, made.Secret[:len(made.Prefix)], made.Prefix)
	program, err := client.New(address, made.Secret)
	require.NoError(t, err)
	who, err := program.Session(ctx)
	require.NoError(t, err)
	assert.Equal(t, "token audits", who.Through)
	assert.Equal(t, 403, status(program.ChangePassword(ctx, api.PasswordChange{Old: other, New: password})))
	_, err = program.AddEndpoint(ctx, api.EndpointSettings{Endpoint: "tides.tarnholm.example"})
	require.NoError(t, err)
	_, err = first.ChangePerson(ctx, pilot.ID, api.PersonChange{Role: "viewer"})
	require.NoError(t, err)
	_, err = program.AddEndpoint(ctx, api.EndpointSettings{Endpoint: "cranes.tarnholm.example"})
	assert.Equal(t, 403, status(err), "the owner is a viewer now")
	assert.Equal(t, 1, count(t, data, "SELECT count(*) FROM tokens WHERE used_at IS NOT NULL"))
	exec := func(query string) { _ = count(t, data, "WITH x AS ("+query+" RETURNING 1) SELECT count(*) FROM x") }
	exec("UPDATE tokens SET expires_at = now() - interval '1 minute'")
	_, err = program.Session(ctx)
	assert.Equal(t, 401, status(err), "it has expired")
	exec("UPDATE tokens SET expires_at = NULL")
	_, err = first.ChangePerson(ctx, pilot.ID, api.PersonChange{Disabled: new(true)})
	require.NoError(t, err)
	_, err = program.Session(ctx)
	assert.Equal(t, 401, status(err), "whoever is locked out has no tokens either")
	_, err = stranger(t, address).SignIn(ctx, "pilot", other)
	assert.Equal(t, 401, status(err))
	exec("UPDATE sessions SET ends_at = now() - interval '1 minute'")
	_, err = first.Session(ctx)
	assert.Equal(t, 401, status(err), "it was not used for too long")

	// The log has what was done, and neither it nor anything else in the database a password or a token.
	_, err = first.SignIn(ctx, "harbour-master", password)
	require.NoError(t, err)
	page, err := first.Activity(ctx, "", 1000)
	require.NoError(t, err)
	var log strings.Builder
	for _, a := range page.Items {
		before, _ := json.Marshal(a.Before)
		after, _ := json.Marshal(a.After)
		log.WriteString(strings.Join([]string{a.Who, a.Operation, a.Object, http.StatusText(a.Status), string(before),
			string(after)}, " ") + "\n")
		assert.Equal(t, "127.0.0.1", a.Address)
	}
	for _, want := range []string{"harbour-master set-up harbour-master OK", "harbour-master add-person pilot Created",
		"pilot sign-in pilot Unauthorized", "pilot add-endpoint tides.tarnholm.example:443 Created",
		`"role":"auditor"`, `"disabled":true`, "pilot add-token audits Created"} {
		assert.Contains(t, log.String(), want)
	}
	dump := dumpOf(t, data)
	for _, secret := range []string{password, other, made.Secret, made.Secret[len(made.Prefix):], code} {
		assert.NotContains(t, dump, secret)
	}
}

// TestGuessing: a name is closed for longer and longer, whether there is one or not, and nobody fills the log.
func TestGuessing(t *testing.T) {
	t.Parallel()
	data := shortDirectory(t)
	address, _ := begun(t, service.Config{Data: data, SignIn: service.SignIn{Accounts: []service.Account{
		{Name: "pilot", Password: password, Role: auth.Viewer}}}})
	for _, name := range []string{"nobody", "pilot"} {
		var last error
		for range 7 {
			_, last = stranger(t, address).SignIn(t.Context(), name, "something else")
		}
		assert.Equal(t, 429, status(last), name)
	}
	_, err := stranger(t, address).SignIn(t.Context(), "pilot", password)
	assert.ErrorContains(t, err, "try again in", "nor the right one, for a moment")
	_ = count(t, data, "WITH x AS (UPDATE failed_sign_ins SET closed_to = now() RETURNING 1) SELECT count(*) FROM x")
	_, err = stranger(t, address).SignIn(t.Context(), "pilot", password)
	require.NoError(t, err)
	assert.Zero(t, count(t, data, "SELECT count(*) FROM failed_sign_ins WHERE name = 'pilot'"))
	for range 20 {
		_, err = stranger(t, address).SignIn(t.Context(), "another", "something else")
	}
	assert.Equal(t, 429, status(err), "one network may not try without end")
	assert.Less(t, count(t, data, "SELECT count(*) FROM activity"), 25)
}

// TestRoles calls every operation with every role, and with none.
func TestRoles(t *testing.T) {
	t.Parallel()
	data := shortDirectory(t)
	people := []service.Account{{Name: "spare", Password: password, Role: auth.Administrator}}
	for _, role := range []auth.Role{auth.Viewer, auth.Auditor, auth.Administrator} {
		people = append(people, service.Account{Name: string(role), Password: password, Role: role})
	}
	address, _ := begun(t, service.Config{Data: data, SignIn: service.SignIn{Accounts: people}})
	secrets := map[auth.Role]string{"": ""}
	// What each role may do, by what an operation needs.
	everybody := []auth.Role{auth.Viewer, auth.Auditor, auth.Administrator, auth.Collect, auth.Metrics, auth.Worker}
	for _, role := range everybody {
		c := stranger(t, address)
		name := string(role)
		if !role.IsPersons() {
			name = string(auth.Administrator)
		}
		_, err := c.SignIn(t.Context(), name, password)
		require.NoError(t, err)
		start := api.TokenStart{Name: "roles", Role: string(role)}
		if role == auth.Worker {
			start.Vantage = "outside"
		}
		made, err := c.AddToken(t.Context(), start)
		require.NoError(t, err)
		secrets[role] = made.Secret
	}
	may := map[auth.Role][]auth.Role{"anyone": append(everybody, ""), "any role": everybody,
		auth.Viewer: everybody[:3], auth.Auditor: everybody[1:3], auth.Administrator: everybody[2:3],
		auth.Collect: everybody[1:4], auth.Worker: {auth.Administrator, auth.Worker}}
	readers := map[string]bool{"list-holdings": true, "list-holding-digests": true, "get-delivery": true}

	ask := func(method, path, token string) int {
		r, err := http.NewRequestWithContext(t.Context(), method, address+path, strings.NewReader("{}"))
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/json")
		if token != "" {
			r.Header.Set("Authorization", "Bearer "+token)
		}
		response, err := http.DefaultTransport.RoundTrip(r)
		require.NoError(t, err)
		defer response.Body.Close()
		_, _ = io.Copy(io.Discard, response.Body)
		return response.StatusCode
	}
	text, err := web.Document()
	require.NoError(t, err)
	var document struct {
		Paths map[string]map[string]struct {
			OperationID string
			Role        auth.Role `json:"x-role"`
		}
	}
	require.NoError(t, json.Unmarshal(text, &document))
	seen := 0
	for path, operations := range document.Paths {
		path = strings.NewReplacer("{id}", "987654321", "{part}", "1", "{name}", "unknown",
			"{session}", "unknown").Replace(path)
		for method, o := range operations {
			seen++
			require.Contains(t, may, o.Role, o.OperationID)
			assert.Equal(t, web.Roles[o.OperationID], o.Role, o.OperationID)
			for role, token := range secrets {
				got := ask(strings.ToUpper(method), path, token)
				allowed := contains(may[o.Role], role) || readers[o.OperationID] && role == auth.Viewer
				want := map[bool]int{true: 403, false: 401}[role != ""]
				if allowed {
					assert.NotContains(t, []int{401, 403}, got, "%s as %q", o.OperationID, role)
				} else {
					assert.Equal(t, want, got, "%s as %q", o.OperationID, role)
				}
			}
		}
	}
	assert.Len(t, web.Roles, seen, "operations that are not there")
	for role, token := range secrets {
		assert.Equal(t, role == auth.Metrics || role == auth.Administrator, ask("GET", "/metrics", token) == 200, role)
		assert.Equal(t, role.IsPersons(), ask("GET", "/api/openapi.json", token) == 200, role)
	}
	assert.Equal(t, 401, ask("GET", "/metrics", "nurvik_unknown"))
	estate := strings.NewReader(`{"kind":"estate","digest":"abcdef0123456789","estate":{"replace":true}}`)
	r, err := http.NewRequestWithContext(t.Context(), "POST", address+"/api/v1/deliveries", estate)
	require.NoError(t, err)
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("Authorization", "Bearer "+secrets[auth.Collect])
	response, err := http.DefaultTransport.RoundTrip(r)
	require.NoError(t, err)
	defer response.Body.Close()
	assert.Equal(t, 403, response.StatusCode, "a machine's token replaces no estate")
}

func contains(list []auth.Role, role auth.Role) bool {
	for _, x := range list {
		if x == role {
			return true
		}
	}
	return false
}

// issued writes a self-signed certificate of the number with its key.
func issued(t *testing.T, directory string, serial int64) *x509.Certificate {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(serial), Subject: pkix.Name{CommonName: "nurvik"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{{127, 0, 0,
			1}}}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	pkcs8, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	for name, block := range map[string]*pem.Block{"chain.pem": {Type: "CERTIFICATE", Bytes: der},
		"key.pem": {Type: "PRIVATE KEY", Bytes: pkcs8}} {
		require.NoError(t, os.WriteFile(filepath.Join(directory, name), pem.EncodeToMemory(block), 0o600))
	}
	c, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	return c
}

// TestOwnTLS: the service's own TLS, what browsers are told over it, and a certificate that is replaced.
func TestOwnTLS(t *testing.T) {
	t.Parallel()
	directory := t.TempDir()
	roots := x509.NewCertPool()
	roots.AddCert(issued(t, directory, 1))
	address, setUp := begun(t, service.Config{Data: shortDirectory(t), SignIn: service.SignIn{
		Certificate: filepath.Join(directory, "chain.pem"), Key: filepath.Join(directory, "key.pem"),
		PublicURL: "https://nurvik.tarnholm.example", Proxies: []string{"127.0.0.1"},
		Accounts: []service.Account{{Name: "pilot", Password: password, Role: auth.Administrator}}}})
	require.True(t, strings.HasPrefix(address, "https://"))
	host := strings.TrimPrefix(address, "https://")
	assert.Empty(t, setUp, "there is an administrator")

	browser := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots},
		ForceAttemptHTTP2: true}}
	ask := func(method, path, body string, headers map[string]string) *http.Response {
		r, err := http.NewRequestWithContext(t.Context(), method, address+path, strings.NewReader(body))
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/json")
		for name, value := range headers {
			r.Header.Set(name, value)
		}
		r.Host = "nurvik.tarnholm.example" // as a proxy passes it on
		response, err := browser.Do(r)
		require.NoError(t, err)
		t.Cleanup(func() { _ = response.Body.Close() })
		return response
	}
	in := ask("POST", "/api/v1/session", `{"name":"pilot","password":"`+password+`"}`,
		map[string]string{"X-Forwarded-For": "203.0.113.9, 192.0.2.44"})
	require.Equal(t, 200, in.StatusCode)
	assert.Equal(t, "HTTP/2.0", in.Proto)
	assert.NotEmpty(t, in.Header.Get("Strict-Transport-Security"))
	require.Len(t, in.Cookies(), 1)
	cookie := in.Cookies()[0]
	assert.Equal(t, "__Host-nurvik", cookie.Name)
	assert.True(t, cookie.Secure && cookie.HttpOnly && cookie.SameSite == http.SameSiteStrictMode && cookie.Path == "/")
	assert.Equal(t, 200, ask("GET", "/api/v1/session", "",
		map[string]string{"Cookie": cookie.Name + "=" + cookie.Value}).StatusCode)
	assert.Equal(t, 401, ask("GET", "/api/v1/session", "",
		map[string]string{"Cookie": "nurvik=" + cookie.Value}).StatusCode)
	foreign := ask("DELETE", "/api/v1/session", "", map[string]string{"Cookie": cookie.Name + "=" + cookie.Value,
		"Origin": "https://elsewhere.tarnholm.example"})
	assert.Equal(t, 403, foreign.StatusCode, "no page from elsewhere acts for whoever is signed in")

	for name, c := range map[string]*tls.Config{"TLS 1.1": {MinVersion: tls.VersionTLS10, MaxVersion: tls.VersionTLS11},
		"a suite without forward secrecy": {MaxVersion: tls.VersionTLS12,
			CipherSuites: []uint16{tls.TLS_RSA_WITH_AES_128_GCM_SHA256}}} {
		c.InsecureSkipVerify = true
		_, err := tls.Dial("tcp", host, c)
		assert.Error(t, err, name)
	}
	serial := func() int64 {
		conn, err := tls.Dial("tcp", host, &tls.Config{InsecureSkipVerify: true})
		require.NoError(t, err)
		defer conn.Close()
		return conn.ConnectionState().PeerCertificates[0].SerialNumber.Int64()
	}
	issued(t, directory, 2)
	assert.Eventually(t, func() bool { return serial() == 2 }, 10*time.Second, 100*time.Millisecond,
		"the new one is served")
	require.NoError(t, os.WriteFile(filepath.Join(directory, "chain.pem"), []byte("half of a certificate"), 0o600))
	time.Sleep(2100 * time.Millisecond)
	assert.EqualValues(t, 2, serial(), "one that cannot be read changes nothing")
}

// TestAddresses: whose word about a caller's address counts.
func TestAddresses(t *testing.T) {
	t.Parallel()
	data := shortDirectory(t)
	address, _ := begun(t, service.Config{Data: data, SignIn: service.SignIn{Proxies: []string{"127.0.0.0/8",
		"192.0.2.0/24"},
		LetIn: letIn.LetIn, Accounts: letIn.Accounts}})
	ask := func(forwarded string) int {
		body := bytes.NewReader([]byte(`{"name":"` + forwarded + `","password":"x"}`))
		r, err := http.NewRequestWithContext(t.Context(), "POST", address+"/api/v1/session", body)
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/json")
		r.Header.Set("X-Forwarded-For", forwarded)
		response, err := http.DefaultTransport.RoundTrip(r)
		require.NoError(t, err)
		return response.StatusCode
	}
	for forwarded, want := range map[string]string{"198.51.100.7": "198.51.100.7",
		"10.0.0.1, 198.51.100.7":  "198.51.100.7",
		"198.51.100.7, 192.0.2.9": "198.51.100.7", "nonsense": "127.0.0.1", "2001:db8::7": "2001:db8::7"} {
		assert.Equal(t, 401, ask(forwarded))
		assert.Equal(t, 1, count(t, data,
			"SELECT count(*) FROM activity WHERE who = '"+forwarded+"' AND address = '"+want+"'"),
			forwarded)
	}
	r, err := http.NewRequestWithContext(t.Context(), "GET", address+"/api/v1/session", nil)
	require.NoError(t, err)
	response, err := http.DefaultTransport.RoundTrip(r)
	require.NoError(t, err)
	assert.Equal(t, 200, response.StatusCode, "the demo lets in whoever is on this machine")
	r.Header.Set("X-Forwarded-For", "127.0.0.1")
	response, err = http.DefaultTransport.RoundTrip(r)
	require.NoError(t, err)
	assert.Equal(t, 401, response.StatusCode, "and nobody through a proxy")
}

// dumpOf is all that is in the database, as text.
func dumpOf(t *testing.T, data string) string {
	t.Helper()
	conn := connection(t, data)
	defer conn.Close(context.Background())
	var out string
	require.NoError(t, conn.QueryRow(t.Context(), `SELECT coalesce(string_agg(query_to_xml(format('SELECT * FROM %I', `+
		`table_name), true, false, '')::text, ''), '') FROM information_schema.tables WHERE table_schema = 'public'`).Scan(&out))
	require.Contains(t, out, "<name>pilot</name>")
	return out
}

// TestWhatIsVisited: whoever may change the estate does not reach the machine that the service runs on, but for the
// service itself.
func TestWhatIsVisited(t *testing.T) {
	t.Parallel()
	directory := t.TempDir()
	certificate := issued(t, directory, 1)
	victim, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer victim.Close()
	met := make(chan struct{})
	go func() {
		if conn, err := victim.Accept(); err == nil {
			_ = conn.Close()
			close(met)
		}
	}()
	address, _ := begun(t, service.Config{Data: shortDirectory(t), SignIn: service.SignIn{LetIn: letIn.LetIn,
		Accounts: letIn.Accounts, Certificate: filepath.Join(directory, "chain.pem"), Key: filepath.Join(directory,
			"key.pem")}})
	roots := x509.NewCertPool()
	roots.AddCert(certificate)
	ask := func(method, path, body string, into any) {
		r, err := http.NewRequestWithContext(t.Context(), method, address+api.Base+path, strings.NewReader(body))
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/json")
		response, err := (&http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots}}}).Do(r)
		require.NoError(t, err)
		defer response.Body.Close()
		require.NoError(t, json.NewDecoder(response.Body).Decode(into))
	}
	host := strings.TrimPrefix(address, "https://")
	var inside, itself api.Endpoint
	ask("POST", "/endpoints", `{"endpoint":"inside.tarnholm.example","visit_at":["`+victim.Addr().String()+`"]}`, &inside)
	ask("POST", "/endpoints", `{"endpoint":"nurvik.tarnholm.example","visit_at":["`+host+`"]}`, &itself)
	var audit api.Audit
	ask("POST", "/audits", `{}`, &audit)
	require.Eventually(t, func() bool {
		ask("GET", "/audits/"+jsonNumber(audit.ID), "", &audit)
		return audit.Final()
	}, time.Minute, 100*time.Millisecond)
	require.Len(t, audit.Unexamined, 1)
	assert.Contains(t, audit.Unexamined[0].Unexamined, "an administrator allows it with --allow-visit 127.0.0.1/32=")
	var x api.Examination
	ask("GET", "/endpoints/"+jsonNumber(itself.ID), "", &x)
	assert.Equal(t, "faulty", x.Endpoint.Verdict, "its certificate is self-signed")
	assert.NotContains(t, strings.Join(x.Endpoint.Codes, " "), "proto.")
	select {
	case <-met:
		t.Error("somebody connected")
	default:
	}
}
