package cli

import (
	"runtime"
	"runtime/debug"
	"runtime/metrics"
)

// LeastMemory is what the program may use before it collects garbage in
// earnest, in bytes: it runs on every server of an estate, beside what the
// server is for.
const LeastMemory = 188 << 20

// room is what garbage may take beside what is remembered, in bytes.
const room = 28 << 20

// LimitMemory lets garbage lie until the limit is near, which is cheap, and
// raises the limit where there is much to be remembered, so that collecting
// never takes over.
func LimitMemory() {
	debug.SetGCPercent(400)
	debug.SetMemoryLimit(LeastMemory)
	watch(&struct{ self *int }{})
}

// watch is called at the end of each collection: the object that nobody holds has gone.
func watch(sentinel *struct{ self *int }) {
	runtime.SetFinalizer(sentinel, func(*struct{ self *int }) {
		live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
		metrics.Read(live)
		debug.SetMemoryLimit(max(LeastMemory, int64(live[0].Value.Uint64())*5/4+room))
		watch(&struct{ self *int }{})
	})
}
