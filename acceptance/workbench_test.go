package acceptance

import (
	"encoding/base64"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/harbour"
)

// drop makes the page believe that files were dropped on it, with their contents.
func (b *browser) drop(t *testing.T, paths ...string) {
	t.Helper()
	var files []string
	for _, path := range paths {
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		files = append(files, fmt.Sprintf(`new File([Uint8Array.from(atob(%q), c => c.charCodeAt(0))], %q)`,
			base64.StdEncoding.EncodeToString(data), filepath.Base(path)))
	}
	b.do(t, chromedp.Evaluate[chromedp.Void](`(() => {
		const transfer = new DataTransfer();
		for (const file of [`+strings.Join(files, ",")+`]) transfer.items.add(file);
		const drop = new DragEvent('drop', { dataTransfer: transfer, bubbles: true, cancelable: true });
		document.querySelector('[data-test="drop"]').dispatchEvent(drop);
	})()`))
}

func (b *browser) requests() int {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	total := 0
	for _, n := range b.hosts {
		total += n
	}
	return total
}

// served is how many requests the service has answered, those for this number included.
func (d *daemon) served(t *testing.T) (total int) {
	t.Helper()
	response := d.get(t, "/metrics")
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	for _, m := range regexp.MustCompile(`(?m)^nurvik_http_seconds_count\{.*\} (\d+)$`).FindAllStringSubmatch(string(text), -1) {
		n, err := strconv.Atoi(m[1])
		require.NoError(t, err)
		total += n
	}
	return total
}

// TestWorkbench drops keys and certificates on the page: it sorts them out, and
// from then on nothing at all is asked of any server.
func TestWorkbench(t *testing.T) {
	d := serve(t, dataDirectory(t))
	b := open(t)
	b.signIn(t, d)
	host := func(path string) string { return filepath.Join(estate.Hosts, path) }

	b.do(t, chromedp.Navigate(d.address+"/"), chromedp.WaitVisible(`[data-test="start-audit"]`))
	assert.False(t, evaluate[bool](t, b,
		`performance.getEntriesByType('resource').some(r => r.name.includes('nurvik.wasm') || r.name.includes('/workbench/'))`), "other pages load nothing of it")
	b.do(t, chromedp.Navigate(d.address+"/workbench"), chromedp.WaitVisible(`[data-test="ready"]`))
	assert.Contains(t, b.text(t, "main"), "Nothing is sent.")
	b.eventually(t, `document.querySelector('.audit-bar')?.innerText.length > 0`,
		"the page has asked for everything it needs")
	before, answered := b.requests(), d.served(t)
	require.Positive(t, answered)

	b.drop(t, host("quay/etc/ssl/quay.key"), host("quay/etc/ssl/quay.crt"), host("quay/etc/ssl/bollard.key"),
		host("quay/etc/ssl/bollard.crt"))
	b.eventually(t, `document.querySelectorAll('[data-test="entries"] tbody tr').length === 4`, "what each is")
	assert.Contains(t, b.text(t, `[data-test="set"]`), "quay.tarnholm.example")
	b.do(t, chromedp.WaitVisible(`[data-code="pair.key-mismatch"]`))

	t.Run("parts are saved, clean and apart", func(t *testing.T) {
		b.do(t, chromedp.Evaluate[chromedp.Void](`(() => {
			window.saved = {};
			const original = URL.createObjectURL;
			HTMLAnchorElement.prototype.click = function () {
				window.last.text().then(text => { window.saved[this.download] = text });
			};
			URL.createObjectURL = blob => { window.last = blob; return original.call(URL, blob) };
		})()`))
		for _, what := range []string{"leaf", "bundle", "key"} {
			b.do(t, chromedp.Click(`[data-test="save-`+what+`"]`))
		}
		b.eventually(t, `Object.keys(window.saved).length === 3`, "three files")
		want, err := os.ReadFile(host("quay/etc/ssl/quay.key"))
		require.NoError(t, err)
		assert.Equal(t, string(want), evaluate[string](t, b, `window.saved['quay.tarnholm.example.key']`))
		assert.Equal(t, 1, strings.Count(evaluate[string](t, b, `window.saved['quay.tarnholm.example-bundle.pem']`),
			"BEGIN CERTIFICATE"))
	})
	t.Run("two are compared", func(t *testing.T) {
		b.do(t, chromedp.Click(`[data-test="compare"]`), chromedp.WaitVisible(`[data-test="compared"]`))
		assert.Contains(t, b.text(t, `[data-test="compared"]`), "They do not belong together: different keys.",
			"of bollard.key and bollard.crt, which came last")
	})
	t.Run("a server's files are packed", func(t *testing.T) {
		b.do(t, chromedp.SendKeys(`[data-test="pack-name"]`, "quay.tarnholm.example"), chromedp.Click(`[data-test="pack"]`),
			chromedp.WaitVisible(`[data-test="packed"]`))
		packed := b.text(t, `[data-test="packed"]`)
		for _, text := range []string{"quay.tarnholm.example-bundle.pem", "quay.tarnholm.example.key",
			"ssl_certificate_key /etc/ssl/quay.tarnholm.example.key;", `"Skerry Outer Root", is not among what was read`} {
			assert.Contains(t, packed, text)
		}
		b.do(t, chromedp.Click(`[data-test="save-packed"]`))
		b.eventually(t, `window.saved['quay.tarnholm.example-bundle.pem']?.includes('BEGIN CERTIFICATE')`, "it is saved")
	})
	t.Run("a keystore is unlocked", func(t *testing.T) {
		b.drop(t, host("gatehouse/stores/barrier.p12"))
		b.do(t, chromedp.WaitVisible(`[data-test="password"]`),
			chromedp.SendKeys(`[data-test="password"]`, harbour.Password), chromedp.Click(`[data-test="unlock"]`))
		b.eventually(t,
			`[...document.querySelectorAll('[data-test="set"]')].some(s => s.innerText.includes('barrier.tarnholm.example.key'))`, "its key can be saved")
	})
	t.Run("a text is pasted", func(t *testing.T) {
		text, err := os.ReadFile(host("mailroom/word-processor.crt"))
		require.NoError(t, err)
		b.do(t, chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`(() => {
			const field = document.querySelector('[data-test="paste"]');
			field.value = %q;
			field.dispatchEvent(new Event('input'));
		})()`, text)), chromedp.Click(`[data-test="read"]`), chromedp.WaitVisible(`[data-code="file.typographic-dashes"]`))
		b.do(t, chromedp.Click(`[data-test="entries"] .more`))
		b.eventually(t, `document.querySelector('[data-test="entries"] dl')?.innerText.includes('public key')`,
			"every field is shown")
	})
	t.Run("all is forgotten", func(t *testing.T) {
		b.do(t, chromedp.Click(`[data-test="clear"]`), chromedp.WaitVisible(`[data-test="ready"]`))
		b.eventually(t, `!document.body.innerText.includes('tarnholm.example')`, "nothing is left on the page")
	})
	assert.Equal(t, before, b.requests(), "the page made no request while keys were on it")
	assert.Equal(t, answered+1, d.served(t),
		"nor did its worker: the service answered nothing but the question for this number")
	response, err := http.Get(d.address + "/workbench/wasm_exec.js")
	require.NoError(t, err)
	response.Body.Close()
	assert.Contains(t, response.Header.Get("Content-Security-Policy"), "connect-src 'self'", "and may ask nobody else")
	assert.Empty(t, b.complaints)
}

// TestSendHolding audits a machine's files and looks at them in the console.
func TestSendHolding(t *testing.T) {
	d := serve(t, dataDirectory(t))
	require.Equal(t, 0, nurvik(t, "estate", "import", estate.EstateFile, "--server", d.address).status)
	quay := filepath.Join(estate.Hosts, "quay")
	o := nurvik(t, "collect", quay, "--password-file", estate.Passwords, "--holding", "quay", "--trust", "outer",
		"--server", d.address)
	assert.Equal(t, 0, o.status, o.stderr)
	assert.Contains(t, o.stderr, `as the holding "quay", of which 34 have changed; it is faulty there`)
	unknown := nurvik(t, "collect", quay, "--trust", "nobody", "--server", d.address)
	assert.Equal(t, 2, unknown.status)
	assert.Contains(t, unknown.stderr, "there is no trust store")

	// The service finds what the client finds.
	want := map[string][]string{}
	for path, s := range readTruth(t).Files {
		if inside, ok := strings.CutPrefix(path, "hosts/quay/"); ok {
			for _, f := range s.Findings {
				want[filepath.Join(quay, inside)] = append(want[filepath.Join(quay, inside)],
					strings.Join(strings.Fields(f)[:2], " "))
			}
		}
	}
	list := nurvik(t, "findings", "--server", d.address, "-o", "json")
	got := map[string][]string{}
	for _, f := range decoded[[]struct{ Path, Code, Severity string }](t, list.stdout) {
		got[f.Path] = append(got[f.Path], f.Code+" "+f.Severity)
	}
	for _, m := range []map[string][]string{want, got} {
		for path := range m {
			slices.Sort(m[path])
		}
	}
	assert.Equal(t, want, got)
	assert.Contains(t, nurvik(t, "findings", "--server", d.address).stdout, "quay:")

	b := open(t)
	b.signIn(t, d)
	b.do(t, chromedp.Navigate(d.address+"/holdings"), chromedp.Click(`//a[contains(., 'quay')]`),
		chromedp.WaitVisible(`[data-code="pair.key-mismatch"]`))
	assert.Contains(t, b.text(t, `[data-code="pair.key-mismatch"]`), "/etc/ssl/bollard.key")
	b.do(t, chromedp.Click(`[data-test="files-faulty"]`))
	b.eventually(t,
		`[...document.querySelectorAll('[data-test="files"] tr')].every(r => r.innerText.includes('faulty'))`,
		"only faulty files")
	assert.Empty(t, b.complaints)
}
