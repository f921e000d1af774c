package probe

import (
	"errors"
	"net"
	"slices"
	"strconv"
	"syscall"

	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/tlswire"
	"nurvik/core/words"
)

// also adds a modifier to the purpose of a connection.
func also(purpose facts.Reason, modifier facts.Code) facts.Reason {
	purpose.Args = append(slices.Clone(purpose.Args), string(modifier))
	return purpose
}

// reasonOf says how an exchange ended.
func reasonOf(err error) facts.Reason {
	var alert *tlswire.AlertError
	var notTLS *tlswire.NotTLSError
	var bad *tlswire.BadMessageError
	var unasked *tlswire.NotOfferedError
	var much *tlswire.TooMuchError
	var slow *slowError
	var early *earlyError
	var unwilling *refusedError
	var busy *busyError
	var away *turnedAwayError
	switch {
	case err == nil:
		return facts.Because(facts.GotAnswer)
	case errors.As(err, &alert):
		return facts.Because(facts.Alert, alert.Alert.Name())
	case errors.As(err, &notTLS):
		return facts.Because(facts.NotTLSAnswer, strconv.Quote(string(notTLS.Begin)))
	case errors.As(err, &unasked):
		return facts.Because(facts.ChoseUnasked, unasked.What)
	case errors.As(err, &bad):
		return facts.Because(facts.Undecodable, pki.Printable(bad.Reason))
	case errors.As(err, &much):
		return facts.Because(facts.Endless, pki.Printable(much.Reason))
	case errors.As(err, &busy):
		return busy.reason()
	case errors.As(err, &away):
		return away.reason
	case errors.As(err, &early):
		return early.reason()
	case errors.As(err, &unwilling):
		return unwilling.reason
	case errors.As(err, &slow):
		return facts.Because(facts.NoWholeAnswer)
	case isTimeout(err):
		return facts.Because(facts.NoAnswer)
	case errors.Is(err, tlswire.ErrClosed):
		return facts.Because(facts.Closed)
	}
	return facts.Because(facts.Failure, diagnostic(err))
}

// dialReason says why no connection was made.
func dialReason(err error) facts.Reason {
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		return facts.Because(facts.ConnectRefused)
	case errors.Is(err, syscall.ECONNRESET):
		return facts.Because(facts.Closed)
	case isTimeout(err):
		return facts.Because(facts.ConnectTimeout)
	}
	return facts.Because(facts.ConnectFailed, diagnostic(err))
}

// diagnostic is an error without our own port, which is another in every visit.
func diagnostic(err error) string {
	if failure := (*net.OpError)(nil); errors.As(err, &failure) {
		err = failure.Err
	}
	return pki.Printable(err.Error())
}

// noAddressError says that a name is there and leads nowhere.
type noAddressError struct{ host string }

func (e *noAddressError) Error() string { return words.Of(facts.Because(facts.NoAddress, e.host)) }

// NowhereError is an error of Plan from another machine, which told the reason.
type NowhereError struct{ Reason facts.Reason }

func (e *NowhereError) Error() string { return words.Of(e.Reason) }

// Unresolved is the reason for an error of Plan.
func Unresolved(err error) facts.Reason {
	var told *NowhereError
	if errors.As(err, &told) {
		return told.Reason
	}
	var none *noAddressError
	if errors.As(err, &none) {
		return facts.Because(facts.NoAddress, none.host)
	}
	return facts.Because(facts.LookupFailed, pki.Printable(err.Error()))
}
