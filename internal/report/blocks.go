package report

import (
	"bytes"
	"io"
	"runtime"
	"sync"
)

// blockSize is how many parts of a result are rendered at once by one processor.
const blockSize = 256

// partly runs a function for ranges that are all of it together, on all processors.
func partly(count int, run func(from, to int)) {
	parts := runtime.GOMAXPROCS(0)
	if count <= blockSize {
		parts = 1
	}
	var group sync.WaitGroup
	for i := range parts {
		group.Go(func() { run(count*i/parts, count*(i+1)/parts) })
	}
	group.Wait()
}

// inBlocks renders the parts of a result on all processors and writes them in
// their order, so that a large result is never in memory as text.
func inBlocks(w io.Writer, count int, render func(out *bytes.Buffer, i int) error) error {
	type block struct {
		out  bytes.Buffer
		err  error
		done chan struct{}
	}
	if count <= blockSize {
		var out bytes.Buffer
		for i := range count {
			if err := render(&out, i); err != nil {
				return err
			}
		}
		_, err := w.Write(out.Bytes())
		return err
	}
	ahead, quit := make(chan *block, runtime.GOMAXPROCS(0)), make(chan struct{})
	free := make(chan *block, cap(ahead)+2)
	defer close(quit)
	go func() {
		defer close(ahead)
		for from := 0; from < count; from += blockSize {
			var b *block
			select {
			case b = <-free:
				b.out.Reset()
			default:
				b = &block{}
			}
			b.done = make(chan struct{})
			select {
			case ahead <- b:
			case <-quit:
				return
			}
			go func(from int) {
				defer close(b.done)
				for i := from; i < min(from+blockSize, count) && b.err == nil; i++ {
					b.err = render(&b.out, i)
				}
			}(from)
		}
	}()
	for b := range ahead {
		<-b.done
		if b.err != nil {
			return b.err
		}
		if _, err := w.Write(b.out.Bytes()); err != nil {
			return err
		}
		select {
		case free <- b:
		default:
		}
	}
	return nil
}
