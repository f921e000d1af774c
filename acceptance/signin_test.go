package acceptance

import (
	"bufio"
	"net"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/harbour"
)

// fresh starts a service where nobody has an account, and returns the address for the first administrator.
func fresh(t *testing.T, data string) (address, setUp string) {
	t.Helper()
	address = freeAddress(t)
	return freshWith(t, address, "--data", data, "--listen", address, "--unsafe-disk", "--no-revocation")
}

// freshWith does so with the flags.
func freshWith(t *testing.T, address string, flags ...string) (at, setUp string) {
	t.Helper()
	cmd := exec.Command(filepath.Join(binaries, "nurvikd"), append([]string{"serve"}, flags...)...)
	stdout, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		_ = cmd.Wait()
	})
	lines := bufio.NewScanner(stdout)
	for lines.Scan() {
		if text := strings.TrimSpace(lines.Text()); strings.Contains(text, "/set-up#") {
			return "http://" + address, text
		}
	}
	t.Fatal("no set-up address was printed")
	return "", ""
}

// TestOpenIDSignIn: from the sign-in page to the harbour's directory, which is another site to a browser, and back to
// the page that was asked for.
func TestOpenIDSignIn(t *testing.T) {
	d := harbour.NewDirectory("nurvik", "tide table")
	provider := httptest.NewServer(d)
	t.Cleanup(provider.Close)
	d.At(provider.URL)
	d.Say(map[string]any{"sub": "7", "preferred_username": "pilot", "groups": []string{"tls-team"}}, nil)
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("tide table\n"), 0o600))
	data := dataDirectory(t)
	address := freeAddress(t)
	_, port, err := net.SplitHostPort(address)
	require.NoError(t, err)
	site := "http://localhost:" + port
	flags := []string{"--data", data, "--listen", address, "--unsafe-disk", "--no-revocation", "--public-url", site,
		"--openid-issuer", provider.URL, "--openid-client", "nurvik", "--openid-secret-file", secret,
		"--openid-title", "the harbour directory", "--openid-role", "auditor=tls-team"}
	freshWith(t, address, flags...)
	check, _ := exec.Command(filepath.Join(binaries, "nurvikd"), append([]string{"check"}, flags...)...).Output()
	assert.Contains(t, string(check), "fine   OpenID provider "+provider.URL+": it answers")

	b := open(t)
	b.do(t, chromedp.Navigate(site+"/policies"), chromedp.WaitVisible(`[data-test="openid"]`))
	assert.Equal(t, "Sign in with the harbour directory", b.text(t, `[data-test="openid"]`))
	b.do(t, chromedp.Click(`[data-test="openid"]`))
	b.eventually(t, `location.pathname === '/policies' && document.body.innerText.includes('pilot')`,
		"signed in, at the page that was asked for")
	b.do(t, chromedp.Navigate(site+"/account"), chromedp.WaitVisible(`[data-test="sign-out"]`))
	assert.NotContains(t, b.text(t, "main"), "Change the password")
	b.do(t, chromedp.Click(`[data-test="sign-out"]`), chromedp.WaitVisible(`[data-test="openid"]`))
}

// TestFirstDay: the set-up address, a second person, a token for a machine and a look at the log, in the console; then
// the client signs in.
func TestFirstDay(t *testing.T) {
	data := dataDirectory(t)
	address, setUp := fresh(t, data)
	b := open(t)
	b.do(t, chromedp.Navigate(address+"/policies"), chromedp.WaitVisible(`[data-test="set-up-needed"]`))
	b.do(t, chromedp.Navigate(setUp), chromedp.WaitVisible(`input[data-test="name"]`),
		chromedp.SendKeys(`input[data-test="name"]`, administrator),
		chromedp.SendKeys(`input[data-test="password"]`, password),
		chromedp.SendKeys(`input[data-test="again"]`, "something else"))
	b.eventually(t, `document.body.innerText.includes('not the same') &&
		document.querySelector('button[data-test="set-up"]').disabled`, "a password that was mistyped")
	b.fill(t, `input[data-test="again"]`, password)
	b.do(t, chromedp.Click(`[data-test="set-up"]`), chromedp.WaitVisible(`[data-test="start-audit"]`))

	b.do(t, chromedp.Navigate(address+"/people"), chromedp.WaitVisible(`[data-test="person"]`),
		chromedp.SendKeys(`input[data-test="person-name"]`, "tide-clerk"),
		chromedp.SendKeys(`input[data-test="person-password"]`, password), chromedp.Click(`[data-test="add-person"]`))
	b.eventually(t, `document.querySelectorAll('[data-test="person"]').length === 2`, "there are two")

	b.do(t, chromedp.Navigate(address+"/account"), chromedp.WaitVisible(`input[data-test="token-name"]`),
		chromedp.SendKeys(`input[data-test="token-name"]`, "collect on quay"),
		chromedp.Click(`[data-test="token-role"]`))
	b.eventually(t, `(() => { const o = [...document.querySelectorAll('.el-select-dropdown__item')]
		.find(e => e.innerText === 'collect only'); o?.click(); return !!o })()`, "the role can be chosen")
	b.do(t, chromedp.Click(`[data-test="add-token"]`), chromedp.WaitVisible(`[data-test="secret"]`))
	token := b.text(t, `[data-test="secret"]`)

	b.do(t, chromedp.Navigate(address+"/activity"), chromedp.WaitVisible(`[data-test="activity"]`))
	log := b.text(t, "main")
	for _, want := range []string{"set-up", "add-person", "tide-clerk", "add-token", "role: collect"} {
		assert.Contains(t, log, want)
	}
	assert.NotContains(t, log, token)
	b.do(t, chromedp.Navigate(address+"/account"), chromedp.Click(`[data-test="sign-out"]`),
		chromedp.WaitVisible(`[data-test="sign-in"]`))

	// Somebody who only reads: the page that was asked for comes after the sign-in, without what only others may.
	b.do(t, chromedp.Navigate(address+"/policies"), chromedp.WaitVisible(`input[data-test="name"]`),
		chromedp.SendKeys(`input[data-test="name"]`, "tide-clerk"),
		chromedp.SendKeys(`input[data-test="password"]`, "something else"), chromedp.Click(`[data-test="sign-in"]`))
	b.eventually(t, `document.body.innerText.includes('the name or the password is wrong')`, "it says so")
	b.fill(t, `input[data-test="password"]`, password)
	b.do(t, chromedp.Click(`[data-test="sign-in"]`),
		chromedp.WaitVisible(`[data-test="policy"]`))
	assert.False(t, evaluate[bool](t, b, `!!document.querySelector('[data-test="start-audit"]')`))
	b.do(t, chromedp.Navigate(address+"/people"), chromedp.WaitVisible(`[role="alert"]`))
	assert.Contains(t, b.text(t, `[role="alert"]`), "this needs the role administrator, and yours is viewer")

	// The machine's token sends what the machine holds, and nothing else.
	quay := filepath.Join(estate.Hosts, "quay")
	with := func(token string, arguments ...string) outcome {
		tokens.Store(address, token)
		return nurvik(t, append(arguments, "--server", address)...)
	}
	o := with(token, "collect", quay, "--holding", "quay")
	assert.Equal(t, 0, o.status, o.stderr)
	o = with(token, "findings")
	assert.Equal(t, 3, o.status)
	assert.Contains(t, o.stderr, "this needs the role viewer, and yours is collect")
	o = with("", "findings")
	assert.Equal(t, 3, o.status)
	assert.Contains(t, o.stderr, "nurvik login")
	o = with("nurvik_made-up", "findings")
	assert.Contains(t, o.stderr, "nurvik login")
	tokens.Delete(address)
	login(t, address, data)
}

// login signs in by the client, uses the token that it stored, and takes it back.
func login(t *testing.T, address, data string) {
	home := t.TempDir()
	run := func(arguments ...string) (string, error) {
		cmd := exec.Command(filepath.Join(binaries, "nurvik"), arguments...)
		cmd.Env = append(os.Environ(), "HOME="+home, "XDG_CONFIG_HOME="+home, "NURVIK_PASSWORD="+password)
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	said, err := run("login", "--name", "tide-clerk", "--server", address, "--role", "administrator")
	assert.Error(t, err)
	assert.Contains(t, said, "at most its owner's role")
	said, err = run("login", "--name", "tide-clerk", "--server", address, "--days", "1")
	require.NoError(t, err, said)
	assert.Contains(t, said, "as tide-clerk (viewer)")
	path := filepath.Join(home, "nurvik", "credentials.json")
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	said, err = run("findings", "--server", address)
	assert.NoError(t, err, said)
	elsewhere := freeAddress(t)
	said, _ = run("findings", "--server", "http://"+elsewhere)
	assert.Contains(t, said, "does not answer", "the token is not for another service")
	require.NoError(t, os.Chmod(path, 0o644))
	said, err = run("findings", "--server", address)
	assert.Error(t, err)
	assert.Contains(t, said, "chmod 0600")
	require.NoError(t, os.Chmod(path, 0o600))
	said, err = run("logout", "--server", address)
	assert.NoError(t, err, said)
	kept, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.JSONEq(t, `{}`, string(kept))

	// On the machine itself, beside the running service.
	admin := func(arguments ...string) outcome {
		return call(t, "", "nurvikd", append([]string{"admin", "--data", data}, arguments...)...)
	}
	o := admin("list")
	assert.Contains(t, o.stdout, "tide-clerk", o.stderr)
	assert.Contains(t, admin("change", "nobody", "--disable").stderr, `nobody has the name "nobody"`)
	assert.Contains(t, admin("change", administrator, "--disable").stderr, "only administrator")
	o = admin("change", "tide-clerk", "--disable")
	assert.Equal(t, 0, o.status, o.stderr)
	said, err = run("login", "--name", "tide-clerk", "--server", address)
	assert.Error(t, err)
	assert.Contains(t, said, "the name or the password is wrong")
	assert.Eventually(t, func() bool { return strings.Contains(admin("list").stdout, "no") }, time.Second,
		100*time.Millisecond)
}
