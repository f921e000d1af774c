package probe

import (
	"errors"
	"fmt"
	"slices"
	"syscall"
	"time"
)

// ExhaustedError says that this machine ran out of something, so that nothing
// was learnt of the endpoint. It is no property of the endpoint and no verdict:
// the visit is made again later.
type ExhaustedError struct {
	Err   error
	Words string // in which another machine said it, whose error this is; "" for our own
}

func (e *ExhaustedError) Error() string {
	if e.Words != "" {
		return e.Words
	}
	what := "memory for another connection"
	switch {
	case errors.Is(e.Err, syscall.EMFILE), errors.Is(e.Err, syscall.ENFILE):
		what = "file descriptors: raise the limit of open files, or visit fewer endpoints at once"
	case errors.Is(e.Err, syscall.EADDRNOTAVAIL):
		what = "local ports: widen net.ipv4.ip_local_port_range, or make fewer connections a second"
	}
	return fmt.Sprintf("this machine has run out of %s (%v)", what, e.Err)
}

// Unwrap returns what the system said.
func (e *ExhaustedError) Unwrap() error { return e.Err }

// scarce are the errors of the system that say so: open files, local ports, memory.
var scarce = []error{syscall.EMFILE, syscall.ENFILE, syscall.EADDRNOTAVAIL, syscall.ENOMEM, syscall.ENOBUFS}

// Exhausted returns the error as an *ExhaustedError where it says that this
// machine ran out of something, nil otherwise.
func Exhausted(err error) *ExhaustedError {
	var known *ExhaustedError
	if errors.As(err, &known) {
		return known
	}
	if slices.ContainsFunc(scarce, func(target error) bool { return errors.Is(err, target) }) {
		return &ExhaustedError{Err: err}
	}
	return nil
}

// pauses are how long a visit waits before it is tried again, one after the other.
var pauses = []time.Duration{200 * time.Millisecond, time.Second, 3 * time.Second}
