package cli

import (
	"time"

	"github.com/schollz/progressbar/v3"
)

// bar is the one look of progress. A total of -1 is one that is not known.
func (a *app) bar(total int, what string) *progressbar.ProgressBar {
	return progressbar.NewOptions(total,
		progressbar.OptionSetWriter(a.stderr), progressbar.OptionSetDescription(what), progressbar.OptionShowCount(),
		progressbar.OptionSetWidth(30), progressbar.OptionSetPredictTime(false), progressbar.OptionClearOnFinish(),
		progressbar.OptionThrottle(100*time.Millisecond))
}

// progress returns a function that shows a bar on a terminal, and one that clears it.
func (a *app) progress(total int, what string) (step func(done, total int), finish func()) {
	if !a.interactive() || total < 2 {
		return nil, func() {}
	}
	bar := a.bar(total, what)
	return func(done, _ int) { _ = bar.Set(done) }, func() { _ = bar.Finish() }
}

// phase is a bar that begins with the first step, because its total is known only then.
func (a *app) phase(what string) (step func(done, total int), finish func()) {
	var bar *progressbar.ProgressBar
	return func(done, total int) {
			if bar == nil && a.interactive() {
				bar = a.bar(total, what)
			}
			if bar != nil {
				_ = bar.Set(done)
			}
		}, func() {
			if bar != nil {
				_ = bar.Finish()
			}
		}
}

// counter shows how much was done of what nobody knows the size.
func (a *app) counter(what string) (step func(done int), finish func()) {
	if !a.interactive() {
		return nil, func() {}
	}
	bar := a.bar(-1, what)
	return func(done int) { _ = bar.Set(done) }, func() { _ = bar.Finish() }
}
