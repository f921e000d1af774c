package acceptance

import (
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
)

// onPhone looks at every page on a narrow screen: nothing may run off it, and the pages are behind one button.
func onPhone(t *testing.T, b *browser, d *daemon) {
	b.do(t, chromedp.EmulateViewport(400, 800))
	defer b.do(t, chromedp.EmulateReset())
	for _, path := range []string{"/", "/findings", "/holdings", "/audits", "/expiry", "/policies", "/what-if",
		"/workbench", "/account", "/people", "/activity", "/waivers", "/endpoints/1"} {
		b.do(t, chromedp.Navigate(d.address+path), chromedp.WaitVisible("main h1"))
		b.eventually(t, `!document.querySelector('.el-loading-mask')`, path)
		time.Sleep(500 * time.Millisecond) // what is loaded may be wider
		assert.LessOrEqual(t, evaluate[int](t, b, "document.documentElement.scrollWidth"), 400, path)
	}
	b.do(t, chromedp.Navigate(d.address+"/"), chromedp.WaitVisible(`[data-test="menu"]`))
	b.eventually(t, `document.querySelectorAll('table.folding tbody tr td').length > 100`, "the estate is there")
	assert.Equal(t, "block", evaluate[string](t, b, `getComputedStyle(document.querySelector('tbody td')).display`),
		"a row is a card")
	assert.Zero(t, evaluate[int](t, b, `document.querySelector('nav').offsetHeight`))
	b.do(t, chromedp.Click(`[data-test="menu"]`), chromedp.WaitVisible(`nav a[href="/findings"]`),
		chromedp.Click(`nav a[href="/findings"]`), chromedp.WaitVisible(`[data-test="cause"]`))
	assert.Zero(t, evaluate[int](t, b, `document.querySelector('nav').offsetHeight`), "it folds again")
}
