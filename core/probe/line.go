package probe

import (
	"context"
	"errors"
	"net/netip"
	"nurvik/core/facts"
	"nurvik/core/limits"
	"nurvik/core/tlswire"
	"syscall"
	"time"
)

// Call says what a visit is to learn of an address.
type Call struct {
	ServerName string       // to send; "" sends none
	Scheme     string       // of the endpoint; some begin with a plaintext dialogue
	Effort     facts.Effort // "" for the usual
	Web        bool         // the application is HTTP
	Plain      uint16       // port on which plain HTTP is looked for, 0 for none
	NoQueue    bool         // do not wait for a place at the host; the visit ends with ErrBusy instead
}

// ErrBusy says that as many visits as are allowed are at the host already.
var ErrBusy = errors.New("the host is being visited already")

// line is the connection layer of a visit: it makes the connections, within the
// limits and in their turn at the host, leads each to TLS, and keeps their
// records. It asks nothing itself.
type line struct {
	prober      *Prober
	address     netip.AddrPort
	scheme      string // some begin with a plaintext dialogue
	serverName  string // whom a dialogue addresses, "" for the address
	quick       bool   // few connections only
	host        *hostGate
	time        *stopwatch
	connections []facts.Connection
	failure     facts.Outcome // the most telling way in which no TLS answer came
	detail      facts.Reason
	over        bool            // the endpoint answers no more
	silent      bool            // ClientHellos were not answered in time
	interval    time.Duration   // between two connections, where the endpoint wants it slower than the limits
	last        time.Time       // when the last one was made
	exhausted   *ExhaustedError // this machine ran out of something, which ends the visit
}

// quickConnections bound a visit of quick effort. A database that counts connections which end before the login is
// far from its limit then.
const quickConnections = 10

// fail notes a way of not answering; the more telling one is kept.
func (l *line) fail(outcome facts.Outcome, why facts.Reason) {
	rank := map[facts.Outcome]int{facts.Refused: 1, facts.Reset: 2, facts.Timeout: 3, facts.NotTLS: 4, facts.TooSlow: 5,
		facts.TooMuch: 6, facts.BadMessage: 7, facts.DialogueRefused: 8, facts.Early: 9, facts.Busy: 10}
	if rank[outcome] > rank[l.failure] {
		l.failure, l.detail = outcome, why
	}
}

// most is how many connections the visit may make.
func (l *line) most() int {
	if l.quick {
		return quickConnections
	}
	return limits.MostConnections
}

// connect opens a connection, leads it to TLS, and sets the handshake's deadline. The error is errNoConnection where
// none may be made, and a *turnedAwayError or that of the dialogue where the endpoint did not let it come so far.
func (l *line) connect(ctx context.Context, purpose facts.Reason) (*countingConn, *facts.Connection, error) {
	return l.connectTo(ctx, l.address, purpose)
}

func (l *line) connectTo(ctx context.Context, address netip.AddrPort, purpose facts.Reason) (*countingConn,
	*facts.Connection, error) {
	p := l.prober
	if len(l.connections) >= l.most() || l.over && address == l.address || l.exhausted != nil || !l.rest(ctx) ||
		!l.turn(ctx) {
		return nil, nil, errNoConnection
	}
	started := p.network.Now()
	dialing, cancel := context.WithTimeout(ctx, p.limits.Connect)
	defer cancel()
	l.last = started
	raw, err := p.network.Dial(dialing, address)
	record := &facts.Connection{Purpose: purpose}
	if err != nil {
		l.exhausted = Exhausted(err)
		record.Duration = p.network.Now().Sub(started)
		if record.Outcome = dialReason(err); address == l.address {
			l.dialFailure(err)
		}
		l.connections = append(l.connections, *record)
		p.gate.passed()
		if ctx.Err() != nil || l.exhausted != nil {
			return nil, nil, errNoConnection
		}
		return nil, nil, &turnedAwayError{record.Outcome}
	}
	conn := &countingConn{Conn: raw, started: started, most: p.limits.Bytes, now: p.network.Now}
	conn.stop = context.AfterFunc(ctx, conn.end)
	if address == l.address && dialogues[l.scheme] != nil {
		conn.allow(p.limits.Dialogue)
		if err := upgrade(conn, l.scheme, l.addressee()); err != nil {
			l.dialogueFailure(conn, err)
			l.close(conn, record, err)
			if ctx.Err() != nil {
				return nil, nil, errNoConnection
			}
			return nil, nil, &turnedAwayError{l.connections[len(l.connections)-1].Outcome}
		}
	}
	conn.before = conn.received
	conn.allow(p.limits.Handshake)
	return conn, record, nil
}

// rest waits until the endpoint wants to see another connection.
func (l *line) rest(ctx context.Context) bool {
	if wait := l.interval - l.prober.network.Now().Sub(l.last); l.interval > 0 && wait > 0 {
		timer := time.NewTimer(wait)
		defer timer.Stop()
		select {
		case <-timer.C:
		case <-ctx.Done():
		}
	}
	return ctx.Err() == nil
}

// turn waits until another connection may be made. The visit's time stands still meanwhile.
func (l *line) turn(ctx context.Context) bool {
	if !l.time.pause() {
		return false
	}
	defer l.time.resume()
	return l.prober.gate.pass(ctx, l.host) == nil
}

// addressee is the name that a dialogue addresses.
func (l *line) addressee() string {
	if l.serverName != "" {
		return l.serverName
	}
	return l.address.Addr().String()
}

func (l *line) dialogueFailure(conn *countingConn, err error) {
	var early *earlyError
	var busy *busyError
	var much *tlswire.TooMuchError
	switch {
	case errors.As(err, &much):
		l.fail(facts.TooMuch, reasonOf(err))
	case errors.As(err, &busy):
		l.fail(facts.Busy, reasonOf(err))
	case errors.Is(err, tlswire.ErrClosed):
		l.fail(facts.Reset, reasonOf(err))
	case isTimeout(err) && conn.last.After(conn.late): // it went on and on
		l.silent = true
		l.fail(facts.TooSlow, facts.Because(facts.SlowDialogue, conn.received, l.prober.limits.Dialogue))
	case isTimeout(err):
		l.silent = true
		l.fail(facts.Timeout, facts.Because(facts.SilentDialogue))
	case errors.As(err, &early):
		l.fail(facts.Early, reasonOf(err))
	default:
		l.fail(facts.DialogueRefused, reasonOf(err))
	}
}

func (l *line) dialFailure(err error) {
	outcome := facts.Refused
	switch {
	case errors.Is(err, syscall.ECONNRESET): // accepted, and dropped before we knew
		outcome = facts.Reset
	case isTimeout(err):
		outcome = facts.Timeout
	}
	l.fail(outcome, dialReason(err))
}

// close ends the connection and keeps its record.
func (l *line) close(conn *countingConn, record *facts.Connection, err error) {
	l.end(conn, record, err)
	l.connections = append(l.connections, *record)
}

// end ends the connection and completes its record.
func (l *line) end(conn *countingConn, record *facts.Connection, err error) {
	conn.stop()
	_ = conn.Close()
	l.prober.gate.passed()
	record.Sent, record.Received = conn.counts()
	record.Duration = l.prober.network.Now().Sub(conn.started)
	record.Outcome = reasonOf(err)
}
