package acceptance

import (
	"bytes"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/client"
)

// The administrator of every service of these tests.
const (
	administrator = "harbour-master"
	password      = "lantern over the quay"
)

// tokens are an administrator's, by the service's address and by its data directory.
var tokens sync.Map

// tokenFor is the token for the service that a call names, "" for none.
func tokenFor(arguments []string) string {
	i := slices.Index(arguments, "--server")
	if i < 0 || i+1 == len(arguments) {
		return ""
	}
	token, _ := tokens.Load(arguments[i+1])
	text, _ := token.(string)
	return text
}

// letIn makes an administrator with a token, as "nurvikd admin" does beside a running service that was
// started so.
func (d *daemon) letIn(t *testing.T, data string, served []string) {
	t.Helper()
	token, ok := tokens.Load(data)
	if !ok {
		as := []string{"admin", "--data", data}
		if i := slices.Index(served, "--user"); i >= 0 {
			as = append(as, served[i:i+2]...)
		}
		admin := func(arguments ...string) string {
			cmd := exec.Command(filepath.Join(binaries, "nurvikd"), append(slices.Clone(as), arguments...)...)
			cmd.Env = append(os.Environ(), "NURVIK_PASSWORD="+password)
			var stderr bytes.Buffer
			cmd.Stderr = &stderr
			out, err := cmd.Output()
			require.NoError(t, err, stderr.String())
			return strings.TrimSpace(string(out))
		}
		admin("add", administrator, "--role", "administrator")
		token = admin("token", administrator, "acceptance", "--role", "administrator")
		tokens.Store(data, token)
	}
	tokens.Store(d.address, token)
	d.token = token.(string)
}

// client is one of the administrator.
func (d *daemon) client(t *testing.T) *client.Client {
	t.Helper()
	c, err := client.New(d.address, d.token)
	require.NoError(t, err)
	return c
}

// get asks as the administrator.
func (d *daemon) get(t *testing.T, path string) *http.Response {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, d.address+path, nil)
	require.NoError(t, err)
	r.Header.Set("Authorization", "Bearer "+d.token)
	response, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	return response
}

// signIn signs in as the administrator, on the page for it.
func (b *browser) signIn(t *testing.T, d *daemon) {
	t.Helper()
	b.do(t, chromedp.Navigate(d.address+"/"), chromedp.WaitVisible(`input[data-test="name"]`),
		chromedp.SendKeys(`input[data-test="name"]`, administrator),
		chromedp.SendKeys(`input[data-test="password"]`, password), chromedp.Click(`[data-test="sign-in"]`),
		chromedp.WaitVisible(`[data-test="start-audit"]`))
}

// fill puts a text in the place of what is in a field.
func (b *browser) fill(t *testing.T, selector, text string) {
	t.Helper()
	assert.True(t, evaluate[bool](t, b,
		fmt.Sprintf("(e => { e.value = %q; return e.dispatchEvent(new Event('input')) })"+
			"(document.querySelector(%q))", text, selector)))
}
