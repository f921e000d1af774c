package probe

import (
	"errors"
	"fmt"
	"net"
	"nurvik/core/tlswire"
	"time"
)

func isTimeout(err error) bool {
	var timeout interface{ Timeout() bool }
	return errors.As(err, &timeout) && timeout.Timeout()
}

// countingConn counts the bytes of a connection.
type countingConn struct {
	net.Conn
	started        time.Time
	stop           func() bool
	sent, received int
	before         int // received before the hello
	most           int // that may be received
	now            func() time.Time
	last, late     time.Time // when something came last, and from when on that is late
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

// judged tells an answer that was too slow from none.
func (c *countingConn) judged(err error) error {
	if n := c.received - c.before; n > 0 && isTimeout(err) {
		return &slowError{err, n}
	}
	return err
}

func (c *countingConn) Read(p []byte) (int, error) {
	if c.received >= c.most {
		return 0, &tlswire.TooMuchError{Reason: fmt.Sprintf("%d bytes came", c.received)}
	}
	n, err := c.Conn.Read(p[:min(len(p), c.most-c.received)])
	if c.received += n; n > 0 {
		c.last = c.now()
	}
	return n, err
}

func (c *countingConn) Write(p []byte) (int, error) {
	n, err := c.Conn.Write(p)
	c.sent += n
	return n, err
}
