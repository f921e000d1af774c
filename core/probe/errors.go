package probe

import (
	"errors"
	"fmt"
	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/tlswire"
	"nurvik/core/words"
	"slices"
	"syscall"
)

// refusedError says that a plaintext dialogue did not lead to TLS.
type refusedError struct{ reason facts.Reason }

func (e *refusedError) Error() string { return words.Of(e.reason) }

func unwilling(code facts.Code, args ...any) error {
	return &refusedError{facts.Because(code, args...)}
}

// busyError says that the server turns connections away at present; that is no fault of its dialogue.
type busyError struct{ said string }

func (e *busyError) reason() facts.Reason {
	return facts.Because(facts.SaidBusy, pki.Printable(e.said))
}

func (e *busyError) Error() string { return words.Of(e.reason()) }

// errHungUp says that the server hung up before it had said anything.
var errHungUp = fmt.Errorf("%w, before it had said anything", tlswire.ErrClosed)

// earlyError says that plaintext came between the go-ahead and TLS.
type earlyError struct{ bytes []byte }

func (e *earlyError) reason() facts.Reason {
	return facts.Because(facts.PlaintextAfterGo, pki.Printable(string(e.bytes)))
}

func (e *earlyError) Error() string {
	return words.Of(e.reason())
}

func isTimeout(err error) bool {
	var timeout interface{ Timeout() bool }
	return errors.As(err, &timeout) && timeout.Timeout()
}

// slowError says that an answer had begun and was not complete in time.
type slowError struct {
	error
	bytes int
}

func (e *slowError) Error() string {
	return fmt.Sprintf("%d bytes of an answer came, and not the rest", e.bytes)
}

func (e *slowError) Unwrap() error { return e.error }

// errNoConnection says that no more connections are made: the time is over, or enough were made.
var errNoConnection = errors.New("no connection")

// turnedAwayError says that the endpoint did not let a connection come as far as TLS.
type turnedAwayError struct{ reason facts.Reason }

func (e *turnedAwayError) Error() string { return words.Of(e.reason) }

// refused reports whether the endpoint answered with a refusal, which is any
// alert or close.
func refused(err error) bool {
	var alert *tlswire.AlertError
	return errors.As(err, &alert) || errors.Is(err, tlswire.ErrClosed)
}

// broken reports whether the answer failed before it showed a certificate, so
// that no client could go on.
func broken(answer tlswire.Answer, err error) bool {
	var bad *tlswire.BadMessageError
	var much *tlswire.TooMuchError
	var slow *slowError
	var unasked *tlswire.NotOfferedError
	return errors.As(err, &unasked) || len(answer.Chain.Certificates) == 0 &&
		(errors.As(err, &bad) || errors.As(err, &much) ||
			errors.As(err, &slow))
}

// hungUp reports whether the endpoint let the connection end in a way in which one that limits connections does.
func hungUp(err error) bool {
	var away *turnedAwayError
	var alert *tlswire.AlertError
	if errors.As(err, &alert) {
		return slices.Contains([]string{"internal_error", "access_denied", "user_canceled", "close_notify"},
			alert.Alert.Name())
	}
	return errors.As(err, &away) || errors.Is(err, tlswire.ErrClosed) ||
		errors.Is(err, syscall.ECONNRESET) || isTimeout(err)
}
