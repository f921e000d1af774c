package chain

import (
	"encoding/pem"
	"sync"
	"time"

	"nurvik/core/pki"
)

// maxRemembered bounds what a memory holds, in bytes as fetched.
const maxRemembered = 64 << 20

// memory keeps results for as long as they are valid. Who asks for what
// another is just getting waits for it. The zero value is ready.
type memory struct {
	mutex   sync.Mutex
	entries map[string]*remembered
	size    int
}

type remembered struct {
	mutex sync.Mutex // held while the value is being got
	value any
	until time.Time
	size  int
}

// recall returns the value of the key, and whether it was remembered. get
// returns a new one with its size and its end.
func recall[T any](m *memory, key string, now func() time.Time, get func() (T, int, time.Time)) (T, bool) {
	m.mutex.Lock()
	if m.entries == nil {
		m.entries = map[string]*remembered{}
	}
	e, ok := m.entries[key]
	if !ok {
		e = &remembered{}
		m.entries[key] = e
	}
	m.mutex.Unlock()
	e.mutex.Lock()
	defer e.mutex.Unlock()
	if value, ok := e.value.(T); ok && now().Before(e.until) {
		return value, true
	}
	value, size, until := get()
	m.mutex.Lock()
	defer m.mutex.Unlock()
	m.size += size - e.size
	e.value, e.size, e.until = value, size, until
	if m.size > maxRemembered || len(m.entries) > 100_000 { // rare: better to ask again than to grow
		m.entries, m.size = map[string]*remembered{}, 0
	}
	return value, false
}

// look returns what is remembered and does not wait.
func look[T any](m *memory, key string, now time.Time) (value T, ok bool) {
	m.mutex.Lock()
	e := m.entries[key]
	m.mutex.Unlock()
	if e == nil || !e.mutex.TryLock() {
		return value, false
	}
	defer e.mutex.Unlock()
	value, ok = e.value.(T)
	return value, ok && now.Before(e.until)
}

// parseList reads a list in DER, or in PEM, which RFC 5280 does not allow over
// HTTP and some publish all the same.
func parseList(data []byte) (*pki.RevocationList, error) {
	if block, _ := pem.Decode(data); block != nil {
		data = block.Bytes
	}
	return pki.ParseRevocationList(data)
}
