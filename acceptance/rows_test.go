package acceptance

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
)

// manyEndpoints answers for the service with 100,000 endpoints.
const manyEndpoints = `(() => {
	const all = 100000, real = window.fetch
	window.fetch = async request => {
		const url = new URL(request.url)
		if (request.method !== 'GET' || url.pathname !== '/api/v1/endpoints') return real(request)
		const from = Number(url.searchParams.get('cursor') ?? 0)
		const to = Math.min(all, from + Number(url.searchParams.get('limit')))
		const items = []
		for (let i = from; i < to; i++) items.push({ id: i + 1, endpoint: 'pier' + i + '.tarnholm.example:443',
			verdict: 'faulty', not_after: '2027-01-01T00:00:00Z', issuer: 'Skerry Outer Issuing',
			codes: ['chain.incomplete', 'tls.old-version'], labels: { about: 'pier ' + i }, owner: 'web crew' })
		return new Response(JSON.stringify({ items, verdicts: { faulty: all }, ...(to < all && { next: String(to) }) }),
			{ headers: { 'Content-Type': 'application/json' } })
	}
	window.longest = 0
	new PerformanceObserver(list => {
		for (const one of list.getEntries()) window.longest = Math.max(window.longest, one.duration)
	}).observe({ type: 'longtask' })
})()`

// press presses a key in the list.
func press(key string) string {
	return `document.querySelector('.el-table-v2').dispatchEvent(new KeyboardEvent('keydown', { key: '` + key +
		`', bubbles: true, cancelable: true }))`
}

// manyRows: of a long list only what is in sight is drawn; the rest is read as somebody comes near its end, and the
// keyboard leads everywhere.
func manyRows(t *testing.T, b *browser, d *daemon) {
	b.do(t, chromedp.Navigate(d.address+"/"), chromedp.WaitVisible(firstRow))
	evaluate[any](t, b, manyEndpoints)
	b.do(t, chromedp.Click(`[data-test="sort-target"]`))
	b.eventually(t, rowTexts+`[0]?.includes('pier0.')`, "the long list is there")
	evaluate[any](t, b, `window.ending = setInterval(() => `+press("End")+`, 50)`)
	b.eventually(t, rows+` === 100000`, "all of it is read by going to the end again and again")
	evaluate[any](t, b, `clearInterval(window.ending)`)
	b.eventually(t, rowTexts+`.some(text => text.includes('pier99999.'))`, "the last one is in sight")
	assert.Less(t, evaluate[int](t, b, rowTexts+`.length`), 80, "what is out of sight is not drawn")

	evaluate[any](t, b, press("Home"))
	b.eventually(t, rowTexts+`[0].includes('pier0.')`, "the first one again")
	evaluate[any](t, b, `window.longest = 0, window.scrolled = 0, window.ending = setInterval(() => {
		if (window.scrolled++ >= 300) return clearInterval(window.ending)
		document.querySelector('.el-table-v2__row').dispatchEvent(
			new WheelEvent('wheel', { deltaY: 120, bubbles: true, cancelable: true })) }, 20)`)
	b.eventually(t, `window.scrolled > 300`, "three hundred turns of the wheel further")
	b.eventually(t, `!`+rowTexts+`[0].includes('pier0.')`, "and there")
	t.Logf("the longest task over 50 ms in 300 turns of the wheel over 100,000 rows: %.0f ms (0: there was none)",
		evaluate[float64](t, b, `window.longest`))
}
