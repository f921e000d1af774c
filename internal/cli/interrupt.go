package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/signal"
	"sync/atomic"
	"syscall"
	"time"
)

// patience is how long a command may take to end by itself after Ctrl-C or
// SIGTERM. It may be reading from somebody who sends nothing.
const patience = 900 * time.Millisecond

// interruption is what a signal that comes now would have to wait for.
type interruption struct {
	writing atomic.Bool // the result is on its way out
	visited atomic.Bool // endpoints were visited: what they answered is judged and shown
}

// watch ends the context with the first signal and the process with the second,
// or when the command does not end by itself. What was known before a signal
// came is written whole; a result that was being written when it came is cut off.
func (i *interruption) watch(stderr io.Writer, exit func(status int)) (context.Context, func()) {
	ctx, cancel := context.WithCancel(context.Background())
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	go func() {
		<-signals
		writing := i.writing.Load()
		cancel()
		wait := time.After(patience)
		if i.visited.Load() && !writing {
			fmt.Fprintln(stderr, "nurvik: interrupted; what was seen until now is judged. Once more ends at once")
			wait = nil
		}
		select {
		case <-signals:
		case <-wait:
			if i.writing.Load() && !writing {
				<-signals
			}
		}
		fmt.Fprintln(stderr, "nurvik: interrupted")
		exit(statusUnexamined)
	}()
	return ctx, func() {
		signal.Stop(signals)
		cancel()
	}
}
