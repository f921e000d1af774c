package cli

import (
	"io"
	"time"

	"github.com/jedib0t/go-pretty/v6/progress"
	"github.com/jedib0t/go-pretty/v6/text"
)

// bar shows how far something is, on a terminal.
type bar struct {
	writer  progress.Writer
	tracker *progress.Tracker
	ended   chan struct{}
	out     io.Writer
}

// newBar is the one look of progress. A total of 0 is one that is not known.
func (a *app) newBar(total int, what string) *bar {
	b := &bar{writer: progress.NewWriter(), tracker: &progress.Tracker{Message: what, Total: int64(total)},
		ended: make(chan struct{}), out: a.stderr}
	b.writer.SetOutputWriter(a.stderr)
	b.writer.SetAutoStop(true) // also where the end comes before the first look
	b.writer.SetUpdateFrequency(100 * time.Millisecond)
	b.writer.SetTrackerLength(30)
	b.writer.SetMessageLength(24)
	b.writer.SetStyle(progress.StyleBlocks)
	visible := &b.writer.Style().Visibility
	visible.Percentage = total > 0
	visible.ETA, visible.ETAOverall, visible.Time, visible.Speed = false, false, false, false
	b.writer.AppendTracker(b.tracker)
	go func() {
		defer close(b.ended)
		b.writer.Render()
	}()
	return b
}

func (b *bar) set(done int) {
	if done > 0 {
		b.tracker.SetValue(int64(done))
	}
}

// finish takes the bar away.
func (b *bar) finish() {
	b.tracker.MarkAsDone()
	b.writer.Stop()
	<-b.ended
	_, _ = io.WriteString(b.out, text.CursorUp.Sprint()+text.EraseLine.Sprint()) // a bar that stays is of no loss
}

// progress returns a function that shows a bar on a terminal, and one that clears it.
func (a *app) progress(total int, what string) (step func(done, total int), finish func()) {
	if !a.interactive() || total < 2 {
		return nil, func() {}
	}
	b := a.newBar(total, what)
	return func(done, _ int) { b.set(done) }, b.finish
}

// phase is a bar that begins with the first step, because its total is known only then.
func (a *app) phase(what string) (step func(done, total int), finish func()) {
	var b *bar
	return func(done, total int) {
			if b == nil && a.interactive() {
				b = a.newBar(total, what)
			}
			if b != nil {
				b.set(done)
			}
		}, func() {
			if b != nil {
				b.finish()
			}
		}
}

// counter shows how much was done of what nobody knows the size.
func (a *app) counter(what string) (step func(done int), finish func()) {
	if !a.interactive() {
		return nil, func() {}
	}
	b := a.newBar(0, what)
	return b.set, b.finish
}
