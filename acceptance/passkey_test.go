package acceptance

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// command is a command of the browser's protocol whose answer says nothing.
func command[P, R any](c cdp.Command[P, R], params P) action {
	return func(ctx context.Context, tab *chromedp.Target) (chromedp.Void, error) {
		_, err := cdp.Call(ctx, tab, c, params)
		return chromedp.Void{}, err
	}
}

// securityKey puts one into the browser, which somebody touches at once.
func securityKey(t *testing.T, b *browser) webauthn.AuthenticatorID {
	t.Helper()
	b.do(t, command(webauthn.Enable, webauthn.EnableParams{}))
	added, err := chromedp.Run(b, func(ctx context.Context, tab *chromedp.Target) (
		webauthn.AddVirtualAuthenticatorResult, error) {
		return cdp.Call(ctx, tab, webauthn.AddVirtualAuthenticator, webauthn.AddVirtualAuthenticatorParams{
			Options: &webauthn.VirtualAuthenticatorOptions{Protocol: webauthn.AuthenticatorProtocolCtap2,
				Transport: webauthn.AuthenticatorTransportUsb, AutomaticPresenceSimulation: true}})
	})
	require.NoError(t, err)
	return added.AuthenticatorID
}

// TestPasskey: somebody adds a security key in the console, is asked for it at the next sign-in, and is let in with the
// password again after it was lost.
func TestPasskey(t *testing.T) {
	data := dataDirectory(t)
	address, setUp := fresh(t, data)
	site := strings.Replace(address, "127.0.0.1", "localhost", 1)
	b := open(t)
	key := securityKey(t, b)
	b.do(t, chromedp.Navigate(strings.Replace(setUp, "127.0.0.1", "localhost", 1)),
		chromedp.WaitVisible(`input[data-test="name"]`), chromedp.SendKeys(`input[data-test="name"]`, administrator),
		chromedp.SendKeys(`input[data-test="password"]`, password),
		chromedp.SendKeys(`input[data-test="again"]`, password), chromedp.Click(`[data-test="set-up"]`),
		chromedp.WaitVisible(`[data-test="start-audit"]`), chromedp.Navigate(site+"/account"),
		chromedp.WaitVisible(`input[data-test="passkey-name"]`),
		chromedp.SendKeys(`input[data-test="passkey-name"]`, "key on the ring"),
		chromedp.SendKeys(`input[data-test="passkey-password"]`, "something else"),
		chromedp.Click(`[data-test="add-passkey"]`))
	b.eventually(t, `document.body.innerText.includes('this is not your password')`, "it says so")
	b.fill(t, `input[data-test="passkey-password"]`, password)
	b.do(t, chromedp.Click(`[data-test="add-passkey"]`), chromedp.WaitVisible(`[data-test="passkey"]`))
	assert.Contains(t, b.text(t, `[data-test="passkey"]`), "key on the ring")
	b.fill(t, `input[data-test="passkey-name"]`, "the same")
	b.fill(t, `input[data-test="passkey-password"]`, password)
	b.do(t, chromedp.Click(`[data-test="add-passkey"]`))
	b.eventually(t, `document.body.innerText.includes('holds a passkey of yours already')`, "a second of one device")
	signIn := func(at string) {
		b.do(t, chromedp.Navigate(at+"/account"), chromedp.WaitVisible(`input[data-test="name"]`),
			chromedp.SendKeys(`input[data-test="name"]`, administrator),
			chromedp.SendKeys(`input[data-test="password"]`, password), chromedp.Click(`[data-test="sign-in"]`))
	}
	b.do(t, chromedp.Click(`[data-test="sign-out"]`), chromedp.WaitVisible(`[data-test="sign-in"]`))
	signIn(site)
	b.do(t, chromedp.WaitVisible(`[data-test="passkey"]`))
	assert.NotContains(t, b.text(t, `[data-test="passkey"]`), "never", "it was used")

	// Where browsers do not offer it, and in a terminal.
	signIn(address)
	b.eventually(t, `document.body.innerText.includes('work only at `+site+`.')`, "where to go")
	secret := filepath.Join(t.TempDir(), "password")
	require.NoError(t, os.WriteFile(secret, []byte(password+"\n"), 0o600))
	cmd := exec.Command(filepath.Join(binaries, "nurvik"), "login", "--server", address, "--name", administrator,
		"--password-file", secret)
	cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+t.TempDir())
	out, err := cmd.CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(out), "make a token at "+address+"/account and store it with --token-file")

	// Another device in its place; then the administrator of the machine helps.
	b.do(t, command(webauthn.RemoveVirtualAuthenticator,
		webauthn.RemoveVirtualAuthenticatorParams{AuthenticatorID: key}), chromedp.Navigate(site+"/account"),
		chromedp.WaitVisible(`[data-test="sign-out"]`), chromedp.Click(`[data-test="sign-out"]`),
		chromedp.WaitVisible(`[data-test="sign-in"]`))
	securityKey(t, b)
	signIn(site)
	b.eventually(t, `document.body.innerText.includes('is not in this device')`, "the other device does not know it")
	admin := func(args ...string) string {
		out, err := exec.Command(filepath.Join(binaries, "nurvikd"), append([]string{"admin", "--data", data},
			args...)...).CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	assert.Regexp(t, administrator+`.* 1 `, admin("list"))
	admin("change", administrator, "--remove-passkeys")
	assert.Regexp(t, administrator+`.* 0 `, admin("list"))
	signIn(site)
	b.do(t, chromedp.WaitVisible(`[data-test="passkey-name"]`))
	assert.Contains(t, b.text(t, "main"), "You have none.")
}
