// Package rescue keeps a defect of Nurvik itself to the one endpoint or file
// whose examination met it, so that all others are examined and judged.
package rescue

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"runtime/debug"
	"strings"
)

// Defect is a panic that was caught.
type Defect struct {
	Target    string // the endpoint or file under examination
	Cause     string // what the panic said
	Stack     string // of the goroutine, for the log
	Reference string // ties what people are told to the entry of the log
}

// Report takes a defect to the log. A nil Report drops it.
type Report func(Defect)

// Do works, and returns the defect that ended the work, nil when it ended by itself.
func (report Report) Do(target string, work func()) (defect *Defect) {
	defer func() {
		cause := recover()
		if cause == nil {
			return
		}
		defect = report.Note(target, fmt.Sprint(cause))
	}()
	work()
	return nil
}

// Note makes a defect of something that went wrong without a panic, and reports it.
func (report Report) Note(target, cause string) *Defect {
	stack := string(debug.Stack())
	sum := sha256.Sum256([]byte(target + "\n" + cause + "\n" + frames(stack)))
	defect := &Defect{Target: target, Cause: cause, Stack: stack, Reference: hex.EncodeToString(sum[:4])}
	if report != nil {
		report(*defect)
	}
	return defect
}

// frames are the places in the code, without addresses and goroutines, which
// are others in every run.
func frames(stack string) string {
	var out []string
	for line := range strings.Lines(stack) {
		if place, _, ok := strings.Cut(strings.TrimSpace(line), " +0x"); ok {
			out = append(out, place)
		}
	}
	return strings.Join(out, "\n")
}
