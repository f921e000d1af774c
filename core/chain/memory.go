package chain

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"nurvik/core/rescue"
)

// maxRemembered bounds what a memory holds, in bytes as fetched.
const maxRemembered = 64 << 20

// memory keeps results, failures among them, for as long as they are valid. Who
// asks for what another is just getting waits for it, as long as its context
// lasts. The zero value is ready.
type memory struct {
	mutex   sync.Mutex
	entries map[string]*remembered
	size    int
}

type remembered struct {
	done  chan struct{} // closed once the value is there
	value any
	err   error
	until time.Time
	size  int
}

// got is a new result with its size in bytes and its end.
type got[T any] struct {
	value T
	data  []byte // from which it can be read again
	size  int
	until time.Time
}

// recall returns the value of the key. get returns a new one; it goes on when
// the one who asked first gives up, so that the others have its answer, and
// ends with the context of what it is for, which is beneath ctx. A defect in it
// is an error like others.
func recall[T any](ctx, beneath context.Context, m *memory, key string, now func() time.Time,
	get func(context.Context) (got[T], error)) (value T, err error) {
	for {
		if err := ctx.Err(); err != nil {
			return value, err
		}
		e := m.entry(key, now, func(e *remembered) {
			var result got[T]
			defect := rescue.Report(nil).Do(key, func() { result, e.err = get(beneath) })
			if defect != nil {
				e.err = fmt.Errorf("a defect of Nurvik itself ended it (%s)", defect.Cause)
			}
			e.value, e.until = result.value, result.until
			m.keep(e, result.size)
		})
		select {
		case <-e.done:
		case <-ctx.Done():
			return value, ctx.Err()
		}
		if errors.Is(e.err, context.Canceled) && ctx.Err() == nil && beneath.Err() == nil {
			continue // whoever asked was called off, which is no answer
		}
		value, _ = e.value.(T)
		return value, e.err
	}
}

// entry finds the entry that holds, or makes one and has it filled.
func (m *memory) entry(key string, now func() time.Time, fill func(*remembered)) *remembered {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	if m.entries == nil {
		m.entries = map[string]*remembered{}
	}
	if e, ok := m.entries[key]; ok {
		select {
		case <-e.done:
			if now().Before(e.until) && !errors.Is(e.err, context.Canceled) {
				return e
			}
			m.size -= e.size
		default:
			return e
		}
	}
	e := &remembered{done: make(chan struct{})}
	m.entries[key] = e
	go func() {
		defer close(e.done)
		fill(e)
	}()
	return e
}

// keep counts the size, and forgets everything where it is too much.
func (m *memory) keep(e *remembered, size int) {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	e.size = size
	m.size += size
	if m.size > maxRemembered || len(m.entries) > 100_000 { // rare: better to ask again than to grow
		m.entries, m.size = map[string]*remembered{}, 0
	}
}

// look returns the failure that is remembered for the key, without waiting.
func (m *memory) failure(key string, now time.Time) error {
	m.mutex.Lock()
	e := m.entries[key]
	m.mutex.Unlock()
	if e == nil {
		return nil
	}
	select {
	case <-e.done:
		if now.Before(e.until) {
			return e.err
		}
	default:
	}
	return nil
}
