package acceptance

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/client"
)

// browser is headless Chromium that records every request and every complaint of a page.
type browser struct {
	context.Context
	mutex      sync.Mutex
	hosts      map[string]int
	complaints []string
}

func open(t *testing.T) *browser {
	t.Helper()
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath("/usr/bin/chromium"), chromedp.DisableGPU, chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true))
	if os.Geteuid() == 0 {
		options = append(options, chromedp.NoSandbox)
	}
	allocator, stop := chromedp.NewExecAllocator(context.Background(), options...)
	t.Cleanup(stop)
	tab, closeTab := chromedp.NewContext(allocator)
	t.Cleanup(closeTab)
	b := &browser{hosts: map[string]int{}}
	require.NoError(t, chromedp.Listen(tab, b.hear))
	limited, cancel := context.WithTimeout(tab, 4*time.Minute)
	t.Cleanup(cancel)
	b.Context = limited
	return b
}

// hear takes in an event of the tab.
func (b *browser) hear(event any) {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	switch e := event.(type) {
	case *network.EventRequestWillBeSent:
		if u, err := url.Parse(e.Request.URL); err == nil && u.Scheme != "data" {
			b.hosts[u.Host]++
		}
	case *runtime.EventExceptionThrown:
		b.complaints = append(b.complaints, e.ExceptionDetails.Text)
	case *runtime.EventConsoleAPICalled:
		if e.Type == "error" || e.Type == "warning" {
			b.complaints = append(b.complaints, string(e.Type))
		}
	}
}

type action = chromedp.Action[chromedp.Void]

func (b *browser) do(t *testing.T, actions ...action) {
	t.Helper()
	require.NoError(t, chromedp.Do(b, actions...))
}

func (b *browser) text(t *testing.T, selector string) string {
	t.Helper()
	text, err := chromedp.Run(b, chromedp.Text(selector))
	require.NoError(t, err)
	return text
}

// drawn is the text of a part of a drawing, which has no lines of its own.
func (b *browser) drawn(t *testing.T, selector string) string {
	t.Helper()
	return evaluate[string](t, b, "document.querySelector(`"+selector+"`).textContent")
}

func evaluate[T any](t *testing.T, b *browser, script string) T {
	t.Helper()
	value, err := chromedp.Run(b, chromedp.Evaluate[T](script))
	require.NoError(t, err)
	return value
}

// eventually waits until the script says true.
func (b *browser) eventually(t *testing.T, script, what string) {
	t.Helper()
	require.Eventually(t, func() bool {
		ok, err := chromedp.Run(b, chromedp.Evaluate[bool](script))
		return err == nil && ok
	}, 60*time.Second, 50*time.Millisecond, what)
}

const (
	// The list of the estate draws what is in sight alone.
	rows     = `Number(document.querySelector('[data-rows]')?.dataset.rows ?? 0)`
	rowTexts = `[...document.querySelectorAll('.el-table-v2__row')].map(r => r.innerText)`
	firstRow = ".el-table-v2__row"
)

// TestConsole walks through the console as a person does.
func TestConsole(t *testing.T) {
	d := serve(t, dataDirectory(t), "--handshake-timeout", "5s")
	require.Equal(t, 0, nurvik(t, "estate", "import", estate.EstateFile, "--server", d.address).status)
	b := open(t)
	b.signIn(t, d)

	b.do(t, chromedp.Navigate(d.address+"/"), chromedp.WaitVisible(`[data-test="start-audit"]`))
	b.eventually(t, rows+` === 100`, "the begin of the estate is listed before it is judged")
	b.do(t, chromedp.Click(`[data-test="more"]`))
	b.eventually(t, rows+` === 151`, "and the rest when it is asked for")
	assert.Contains(t, b.text(t, firstRow), "not yet judged")

	t.Run("start an audit and see it through", func(t *testing.T) {
		b.do(t, chromedp.Click(`[data-test="start-audit"]`), chromedp.WaitVisible(`[data-test="cancel-audit"]`))
		b.eventually(t,
			`document.querySelector('.audit-bar').innerText.includes('51 faulty, 28 at risk, 6 unreachable, 66 sound')`,
			"the audit ends")
		b.eventually(t, `!document.querySelector('[data-rows]').innerText.includes('not yet judged')`,
			"the list shows the verdicts by itself")
	})

	t.Run("filter, search and sort", func(t *testing.T) {
		b.do(t, chromedp.Click(`[data-test="filter-at-risk"]`))
		b.eventually(t, rows+` === 28`, "only those at risk")
		b.do(t, chromedp.Click(`[data-test="filter-at-risk"]`))
		b.eventually(t, rows+` === 100`, "all again")
		b.do(t, chromedp.SendKeys(`[data-test="search"]`, "lighthouse"))
		b.eventually(t, rows+` === 1`, "searched")
		b.do(t, chromedp.SendKeys(`[data-test="search"]`, strings.Repeat("\b", len("lighthouse"))))
		b.eventually(t, rows+` === 100`, "cleared")
		b.do(t, chromedp.Click(`[data-test="sort-target"]`))
		b.eventually(t, rowTexts+`[0].includes('almanac')`, "by name")
		b.do(t, chromedp.Click(`[data-test="sort-target"]`))
		b.eventually(t, rowTexts+`[0].includes('yawl')`, "from the end")
		b.eventually(t, `document.querySelector('[data-test="sort-target"]').ariaLabel.endsWith('sorted downwards')`,
			"and told to screen readers")
		b.do(t, chromedp.Click(`[data-test="sort-target"]`))
		b.eventually(t, rowTexts+`[0].includes('almanac')`, "from the begin again")
		b.do(t, chromedp.SendKeys(`[data-test="search"]`, "ferries"))
		b.eventually(t, rows+` === 1`, "searched")
	})

	t.Run("an endpoint's page", func(t *testing.T) {
		b.do(t, chromedp.Click(`//a[contains(., 'ferries.tarnholm.example')]`),
			chromedp.WaitVisible(`[data-code="chain.incomplete"]`))
		right, message := b.drawn(t, `[data-test="right"]`), b.text(t, `[data-code="chain.incomplete"]`)
		assert.NotContains(t, b.drawn(t, `[data-test="served"]`), "Skerry Outer Issuing")
		assert.Equal(t, 2, strings.Count(right, "missing"))
		assert.Contains(t, right, "root, in the trust store")
		assert.Contains(t, message, "Put the certificate file together in this order")
		assert.Contains(t, message, "The missing certificates, as PEM")
		assert.Contains(t, b.text(t, `[data-test="audiences"]`),
			`lacks "Skerry Outer Issuing" and "Skerry Outer Services"`)
		assert.Contains(t, b.text(t, `[data-test="revocation"]`), "the CRL: good")
		assert.Contains(t, b.text(t, `[data-test="bundle"]`), "The complete bundle, 3 certificates")
		assert.Contains(t, b.text(t, `[data-version="TLS 1.3"]`), "accepted")
	})

	t.Run("names needed and covered", func(t *testing.T) {
		assert.Contains(t, b.text(t, `[data-test="coverage"]`), "· ferries.tarnholm.example")
	})

	t.Run("what ends when", func(t *testing.T) {
		chart := `performance.getEntriesByType('resource').some(r => r.name.includes('ForecastChart'))`
		assert.False(t, evaluate[bool](t, b, chart), "no other page loads the charts")
		b.do(t, chromedp.Click(`//nav/a[contains(., 'Expiry')]`), chromedp.WaitVisible(`[data-test="dues"]`),
			chromedp.WaitVisible(`[data-test="chart"] svg`))
		assert.True(t, evaluate[bool](t, b, chart))
		assert.Contains(t, b.text(t, `[data-test="filter-expires-soon"]`), "1")
		assert.Regexp(t, `Renewals double: 20\d\d-\d\d-\d\d under the coming limits`, b.text(t, `[data-test="doubles"]`))
		b.do(t, chromedp.Click(`[data-test="filter-expires-soon"]`))
		b.eventually(t, `document.querySelector('[data-test="dues"]').dataset.rows === '1'`, "filtered")
		b.eventually(t, `location.search === '?state=expires-soon'`, "the filter is in the address bar")
		b.do(t, chromedp.Navigate(d.address+"/expiry?q=berths.tarnholm"), chromedp.WaitVisible(`[data-test="mark"]`))
		b.eventually(t, `document.querySelectorAll('[data-test="mark"]').length === 1`, "one mark")
		assert.Contains(t, b.drawn(t, `[data-test="mark"] title`), "berths.tarnholm.example")
		b.do(t, chromedp.Evaluate[chromedp.Void](
			`document.querySelector('[data-test="mark"]').dispatchEvent(new MouseEvent('click', {bubbles: true, cancelable: true}))`))
		b.eventually(t, `document.querySelector('h1')?.innerText === 'berths.tarnholm.example:443'`, "it leads to where it is")
	})

	t.Run("two cross paths fit on the screen", func(t *testing.T) {
		c := d.client(t)
		fairlead, err := c.FindEndpoint(t.Context(), "fairlead.tarnholm.example:443")
		require.NoError(t, err)
		b.do(t, chromedp.EmulateViewport(1280, 800),
			chromedp.Navigate(d.address+"/endpoints/"+strconv.FormatInt(fairlead.ID, 10)),
			chromedp.WaitVisible(`[data-lane="1"]`))
		assert.Contains(t, b.drawn(t, `[data-test="right"]`), "root, in the trust store second")
		assert.True(t, evaluate[bool](t, b, `(() => {
			const drawn = '[data-test="served"] > g > rect, [data-test="right"] > g > rect'
			const boxes = [...document.querySelectorAll(drawn)].map(r => r.getBoundingClientRect())
			const texts = [...document.querySelectorAll('.drawing svg g g text')]
			const end = x => x.getBoundingClientRect().right
			return boxes.length >= 10 && boxes.every(r => r.left >= 0 && r.right <= 1280) &&
				texts.every(x => end(x) <= end(x.parentNode.querySelector('rect')))
		})()`), "every box is in view, and every text in its box")
	})

	t.Run("see the verdict change", func(t *testing.T) {
		c := d.client(t)
		gate, err := c.FindEndpoint(t.Context(), "gate.tarnholm.example:443")
		require.NoError(t, err)
		b.do(t, chromedp.Navigate(d.address+"/endpoints/"+strconv.FormatInt(gate.ID, 10)),
			chromedp.WaitVisible(`[data-verdict="faulty"]`))
		changed := gate.EndpointSettings
		changed.Trust = []string{"inner"}
		_, err = c.ChangeEndpoint(t.Context(), gate.ID, changed)
		require.NoError(t, err)
		b.do(t, chromedp.Click(`[data-test="audit-endpoint"]`),
			chromedp.WaitVisible(`[data-test="verdict"][data-verdict="sound"]`))
		b.eventually(t, `document.body.innerText.includes('Nothing is wrong here.')`, "its finding is gone")
	})

	t.Run("waive a finding, and take that back", func(t *testing.T) {
		c := d.client(t)
		cranes, err := c.FindEndpoint(t.Context(), "cranes.tarnholm.example:443")
		require.NoError(t, err)
		const card = `[data-code="time.expired"] `
		b.do(t, chromedp.Navigate(d.address+"/endpoints/"+strconv.FormatInt(cranes.ID, 10)),
			chromedp.Click(card+`[data-test="acknowledge"]`), chromedp.SendKeys(card+`[data-test="note"]`, "renewed on Thursday"),
			chromedp.Click(card+`[data-test="do"]`), chromedp.WaitVisible(card+`[data-test="seen"]`),
			chromedp.Click(card+`[data-test="waive"]`), chromedp.SendKeys(card+`[data-test="reason"]`, "renewed on Thursday"),
			chromedp.SendKeys(card+`.el-date-editor input`, time.Now().AddDate(0, 0, 10).Format(time.DateOnly)+"\t"),
			chromedp.Click(card+`[data-test="do"]`), chromedp.WaitVisible(card+`[data-test="waived"]`))
		assert.Contains(t, b.text(t, card), "Waived by harbour-master until ")
		b.eventually(t, `!!document.querySelector('[data-test="verdict"]:not([data-verdict="faulty"])')`, "it counts no more")
		b.do(t, chromedp.Navigate(d.address+"/waivers"), chromedp.WaitVisible(`[data-test="waiver"]`))
		assert.Contains(t, b.text(t, "main"), "cranes.tarnholm.example:443")
		b.do(t, chromedp.Click(`[data-test="remove"]`))
		b.eventually(t, `document.body.innerText.includes('Nothing is waived here.')`, "it is gone")
		cranes, err = c.FindEndpoint(t.Context(), "cranes.tarnholm.example:443")
		require.NoError(t, err)
		assert.Equal(t, "faulty", cranes.Verdict)
	})

	t.Run("findings by cause", func(t *testing.T) {
		b.do(t, chromedp.Navigate(d.address+"/findings"), chromedp.WaitVisible(`[data-test="cause"]`),
			chromedp.SendKeys(`[data-test="search"]`, "halyard"))
		b.eventually(t, `document.querySelectorAll('[data-test="cause"]').length > 0 &&
			[...document.querySelectorAll('[data-test="where"]')].every(e => e.innerText === '1 endpoint')`, "searched")
		b.do(t, chromedp.SendKeys(`[data-test="search"]`, strings.Repeat("\b", len("halyard"))))
		const missing = `//article[contains(., 'chain.incomplete')]`
		b.eventually(t, `[...document.querySelectorAll('[data-test="where"]')].some(e => e.innerText === '4 endpoints')`, "all")
		b.do(t, chromedp.Click(missing+`//button[@data-test="open"]`), chromedp.WaitVisible(missing+`//article`))
		b.eventually(t, `document.querySelectorAll('[data-test="finding"]').length === 3`, "one cause at three endpoints")
		b.do(t, chromedp.Click(`[data-test="finding"] [data-test="acknowledge"]`), chromedp.Click(`[data-test="finding"] [data-test="do"]`))
		b.eventually(t, `document.querySelector('main').innerText.includes('1 acknowledged')`, "the cause says it")
	})

	t.Run("many endpoints", func(t *testing.T) {
		const form = `[data-test="many-form"] `
		b.do(t, chromedp.Navigate(d.address+"/"), chromedp.WaitVisible(firstRow), chromedp.Click(`[data-test="filter-unreachable"]`))
		b.eventually(t, rowTexts+`.every(text => text.includes('unreachable'))`, "filtered")
		b.do(t, chromedp.Click(`[data-test="many"]`), chromedp.WaitVisible(form+`[data-test="label"]`),
			chromedp.Click(form+`[data-test="look"]`), chromedp.WaitVisible(form+`[role="alert"]`))
		assert.Contains(t, b.text(t, form+`[role="alert"]`), "say what to change")
		b.do(t, chromedp.SendKeys(form+`[data-test="label"]`, "watch=often"), chromedp.Click(form+`[data-test="look"]`),
			chromedp.WaitVisible(form+`[data-test="preview"]`))
		want := b.text(t, form+`[data-test="preview"]`)
		b.do(t, chromedp.Click(form+`[data-test="change"]`), chromedp.WaitNotPresent(form))
		list, err := d.client(t).Endpoints(t.Context(), client.EndpointFilter{Search: "often"})
		require.NoError(t, err)
		assert.NotEmpty(t, list)
		assert.Equal(t, fmt.Sprintf("%d of %d matching endpoints would be changed.", len(list), len(list)), want)
	})

	t.Run("proposals", func(t *testing.T) {
		b.do(t, chromedp.Navigate(d.address+"/"), chromedp.WaitVisible(`[data-test="proposals"]`),
			chromedp.Click(`[data-test="proposals"]`), chromedp.WaitVisible(`[data-test="proposal"]`),
			chromedp.Click(`[data-test="choose"]`), chromedp.SendKeys(`input[data-test="owner"]`, "night watch"),
			chromedp.Click(`[data-test="accept"]`), chromedp.WaitVisible(`[data-test="done"]`))
		assert.Equal(t, "1 added, 0 dismissed.", b.text(t, `[data-test="done"]`))
		list, err := d.client(t).Endpoints(t.Context(), client.EndpointFilter{Owner: "night watch"})
		require.NoError(t, err)
		require.Len(t, list, 1)
		o := nurvik(t, "estate", "proposals", "--server", d.address)
		assert.Equal(t, 0, o.status)
		assert.NotContains(t, o.stdout, list[0].Endpoint)
		require.NoError(t, d.client(t).RemoveEndpoint(t.Context(), list[0].ID)) // nobody answers there
	})

	t.Run("an endpoint is added, changed and removed", func(t *testing.T) {
		const form = `[data-test="endpoint-form"] `
		b.do(t, chromedp.Navigate(d.address+"/"), chromedp.WaitVisible(`[data-test="add-endpoint"]`),
			chromedp.Click(`[data-test="add-endpoint"]`), chromedp.WaitVisible(form+`input[data-test="endpoint"]`),
			chromedp.SendKeys(form+`input[data-test="endpoint"]`, "turnbuckle.tarnholm.example"),
			chromedp.SendKeys(form+`input[data-test="visit-at"]`, "127.30.1"),
			chromedp.SendKeys(form+`textarea[data-test="labels"]`, "about=turns\nquay=west"),
			chromedp.Click(form+`[data-test="save"]`), chromedp.WaitVisible(form+`[role="alert"]`))
		assert.Contains(t, b.text(t, form+`[role="alert"]`), `"127.30.1" is no address to visit`)
		evaluate[bool](t, b, `(() => { const input = document.querySelector('input[data-test="visit-at"]')
			input.value = '127.30.1.1'; return input.dispatchEvent(new Event('input')) })()`)
		b.do(t, chromedp.Click(form+`[data-test="save"]`),
			chromedp.WaitVisible(`[data-test="change-endpoint"]`))
		list, err := d.client(t).Endpoints(t.Context(), client.EndpointFilter{Search: "turnbuckle"})
		require.NoError(t, err)
		require.Len(t, list, 1)
		assert.Equal(t, []string{"127.30.1.1"}, list[0].VisitAt)
		assert.Equal(t, map[string]string{"about": "turns", "quay": "west"}, list[0].Labels)

		b.do(t, chromedp.Click(`[data-test="change-endpoint"]`), chromedp.WaitVisible(form+`textarea[data-test="notes"]`),
			chromedp.SendKeys(form+`textarea[data-test="notes"]`, "Ask the deck hands."),
			chromedp.Click(form+`[data-test="save"]`), chromedp.WaitNotPresent(form), chromedp.WaitVisible(`.notes`))
		assert.Equal(t, "Ask the deck hands.", b.text(t, `.notes`))
		o := nurvik(t, "estate", "change", "turnbuckle.tarnholm.example", "--owner", "deck crew", "--server", d.address)
		assert.Equal(t, 0, o.status, o.stderr)
		list, err = d.client(t).Endpoints(t.Context(), client.EndpointFilter{Search: "turnbuckle"})
		require.NoError(t, err)
		assert.Equal(t, []string{"Ask the deck hands.", "deck crew"}, []string{list[0].Notes, list[0].Owner},
			"a change of one setting keeps the others")

		b.do(t, chromedp.Reload(), chromedp.WaitVisible(`[data-test="remove-endpoint"]`),
			chromedp.Click(`[data-test="remove-endpoint"]`), chromedp.WaitVisible(`.el-popconfirm .el-button--primary`),
			chromedp.Click(`.el-popconfirm .el-button--primary`), chromedp.WaitVisible(`[data-test="add-endpoint"]`))
		list, err = d.client(t).Endpoints(t.Context(), client.EndpointFilter{Search: "turnbuckle"})
		require.NoError(t, err)
		assert.Empty(t, list)
	})

	t.Run("a search of a network", func(t *testing.T) {
		b.do(t, chromedp.Navigate(d.address+"/proposals"), chromedp.WaitVisible(`[data-test="search"]`),
			chromedp.Click(`[data-test="start"]`), chromedp.WaitVisible(`[data-test="last"]`))
		assert.Contains(t, b.text(t, `[data-test="last"]`), "of 256 places answered TLS")
		b.eventually(t, `document.body.innerText.includes("a search, at 127.30.7.41:")`,
			"a server that only outsiders reach is proposed")
		o := nurvik(t, "estate", "search", "--server", d.address)
		assert.Equal(t, 0, o.status, o.stderr)
		assert.Contains(t, o.stdout, "by harbour-master, 127.30.7.0/24 on port ")
		o = nurvik(t, "estate", "search", "127.30.7.40/31", "--server", d.address)
		assert.Equal(t, 0, o.status, o.stderr)
		assert.Contains(t, o.stdout, "finished; 2 places answered TLS")
		o = nurvik(t, "estate", "search", "10.0.0.0/8", "--server", d.address)
		assert.Equal(t, 2, o.status)
		assert.Contains(t, o.stderr, "--search-network 10.0.0.0/8=443")
	})

	t.Run("a schedule", func(t *testing.T) {
		const form = `[data-test="schedule-form"] `
		b.do(t, chromedp.Navigate(d.address+"/audits"), chromedp.WaitVisible(`[data-test="none"]`),
			chromedp.Click(`[data-test="add"]`), chromedp.WaitVisible(form+`[data-test="name"]`),
			chromedp.SendKeys(form+`[data-test="name"]`, "ferries"), chromedp.Click(form+`[data-test="by-times"]`),
			chromedp.SendKeys(form+`[data-test="at"]`, "later"),
			chromedp.SendKeys(form+`[data-test="label"]`, "about=the intermediates are missing"),
			chromedp.Click(form+`[data-test="save"]`), chromedp.WaitVisible(form+`[role="alert"]`))
		assert.Contains(t, b.text(t, form+`[role="alert"]`), "is no time of the day, such as 02:30")
		b.do(t, chromedp.Click(form+`[data-test="by-hours"]`), chromedp.Click(form+`[data-test="save"]`),
			chromedp.WaitVisible(`[data-test="schedule"]`))
		assert.Contains(t, b.text(t, `[data-test="schedule"]`), "every 24 hours")
		b.eventually(t, `/the schedule ferries[^]*1 endpoint[^]*1 faulty/.test(document.querySelector('main').innerText)`,
			"its first audit begins by itself and ends")
		b.do(t, chromedp.Click(`[data-test="pause"]`))
		b.eventually(t, `document.querySelector('[data-test="next"]').innerText === 'paused'`, "it is paused")
		b.do(t, chromedp.Click(`[data-test="remove"]`), chromedp.WaitVisible(`.el-popconfirm .el-button--primary`),
			chromedp.Click(`.el-popconfirm .el-button--primary`), chromedp.WaitVisible(`[data-test="none"]`))
	})

	t.Run("cancel from the page", func(t *testing.T) {
		c := d.client(t)
		b.do(t, chromedp.Click(`[data-test="start-audit"]`), chromedp.WaitVisible(`[data-test="cancel-audit"]`),
			chromedp.Click(`[data-test="cancel-audit"]`))
		b.eventually(t,
			`/was cancelled|faulty/.test(document.querySelector('.audit-bar').innerText) && !document.querySelector('[data-test="cancel-audit"]')`, "it ends")
		audits, err := c.Audits(t.Context(), 1)
		require.NoError(t, err)
		assert.Equal(t, "cancelled", audits[0].State)
	})

	t.Run("by keyboard", func(t *testing.T) {
		b.do(t, chromedp.Navigate(d.address+"/"), chromedp.WaitVisible(firstRow))
		seen, inRow := map[string]bool{}, false
		for range 60 {
			b.do(t, chromedp.KeyEvent("\t"))
			seen[evaluate[string](t, b,
				`(e => e.dataset?.test || e.tagName + ' ' + e.className)(document.activeElement)`)] = true
			inRow = inRow || evaluate[bool](t, b, `document.activeElement.closest('.el-table-v2__row') !== null`)
		}
		for _, stop := range []string{"A skip", "start-audit", "BUTTON look", "filter-faulty", "search",
			"sort-target"} {
			assert.True(t, seen[stop], "%q is not reached: %v", stop, seen)
		}
		assert.True(t, inRow, "endpoints are reached")
	})

	t.Run("a hundred thousand rows", func(t *testing.T) { manyRows(t, b, d) })

	t.Run("dark and light", func(t *testing.T) {
		for _, want := range []bool{false, true} { // from "as the system" to light, then to dark
			b.do(t, chromedp.Click(".look"))
			assert.Equal(t, want, evaluate[bool](t, b, `document.documentElement.classList.contains('dark')`))
		}
	})

	t.Run("an endpoint that is gone", func(t *testing.T) {
		b.do(t, chromedp.Navigate(d.address+"/endpoints/99999"), chromedp.WaitVisible(`[role="alert"]`))
		assert.Contains(t, b.text(t, `main [role="alert"]`), "There is no such endpoint")
	})

	t.Run("on a phone", func(t *testing.T) { onPhone(t, b, d) })

	b.mutex.Lock()
	defer b.mutex.Unlock()
	assert.Equal(t, []string{strings.TrimPrefix(d.address, "http://")}, keys(b.hosts), "no request to any other host")
	assert.Empty(t, b.complaints, "no page complains")
}

// TestConsoleWithoutService shows a sentence where the service does not answer.
func TestConsoleWithoutService(t *testing.T) {
	d := serve(t, dataDirectory(t))
	b := open(t)
	b.signIn(t, d)
	b.do(t, chromedp.Navigate(d.address+"/"), chromedp.WaitVisible(`[data-test="start-audit"]`))
	b.eventually(t, `document.body.innerText.includes('The estate is empty')`, "an empty estate says how to begin")
	d.stop(t)
	b.do(t, chromedp.Click(`[data-test="start-audit"]`))
	b.eventually(t, `document.querySelector('.audit-bar').innerText.includes('Is nurvikd running?')`,
		"it says what is wrong")
}

// TestFirstLoad keeps the console small.
func TestFirstLoad(t *testing.T) {
	d := serve(t, dataDirectory(t))
	b := open(t)
	b.signIn(t, d)
	b.do(t, chromedp.Navigate(d.address+"/"), chromedp.WaitVisible(`[data-test="start-audit"]`))
	total := evaluate[int64](t, b,
		`performance.getEntriesByType('resource').filter(r => r.name.includes('/assets/')).reduce((n, r) => n + r.decodedBodySize, 0)`)
	assert.Positive(t, total)
	assert.Less(t, total, int64(900<<10), "the first load grew; 300 kB is the limit after gzip, about a third of this")
	assert.Empty(t, b.complaints)
}

func keys(m map[string]int) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	return out
}
