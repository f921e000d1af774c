package probe

import (
	"errors"
	"fmt"
	"net"
	"nurvik/core/tlswire"
	"sync"
	"syscall"
	"time"
)

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
	mutex          sync.Mutex
	ended          bool // the visit's time is over
}

// judged tells an answer that was too slow from none, and a connection that was reset before it from other failures.
func (c *countingConn) judged(err error) error {
	switch n := c.received - c.before; {
	case n > 0 && isTimeout(err):
		return &slowError{err, n}
	case n == 0 && (errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE)):
		return fmt.Errorf("%w: %w", tlswire.ErrClosed, err)
	}
	return err
}

// allow lets reading and writing go on for so long from now.
func (c *countingConn) allow(limit time.Duration) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if deadline := c.now().Add(limit); !c.ended {
		c.late = deadline.Add(-limit / 2)
		_ = c.SetDeadline(deadline) // a connection that refuses a deadline fails at the first read
	}
}

// end makes what is going on fail, and whatever comes after it.
func (c *countingConn) end() {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	c.ended = true
	_ = c.SetDeadline(time.Unix(1, 0))
}

// counts are the bytes sent and received. Whoever reads aside may not have heard yet that it is over.
func (c *countingConn) counts() (sent, received int) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	return c.sent, c.received
}

func (c *countingConn) Read(p []byte) (int, error) {
	_, received := c.counts()
	if received >= c.most {
		return 0, &tlswire.TooMuchError{Reason: fmt.Sprintf("%d bytes came", received)}
	}
	n, err := c.Conn.Read(p[:min(len(p), c.most-received)])
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if c.received += n; n > 0 {
		c.last = c.now()
	}
	return n, err
}

func (c *countingConn) Write(p []byte) (int, error) {
	n, err := c.Conn.Write(p)
	c.mutex.Lock()
	defer c.mutex.Unlock()
	c.sent += n
	return n, err
}
