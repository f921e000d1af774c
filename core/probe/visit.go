package probe

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"syscall"
	"time"

	"nurvik/core/facts"
	"nurvik/core/limits"
	"nurvik/core/pki"
	"nurvik/core/tlswire"
)

// Call says what a visit is to learn of an address.
type Call struct {
	ServerName string       // to send; "" sends none
	Scheme     string       // of the endpoint; some begin with a plaintext dialogue
	Effort     facts.Effort // "" for normal
	Web        bool         // the application is HTTP
	Plain      uint16       // port on which plain HTTP is looked for, 0 for none
	NoQueue    bool         // do not wait for a place at the host; the visit ends with ErrBusy instead
}

// visit is one visit in the making.
type visit struct {
	prober       *Prober
	call         Call
	observation  facts.Observation
	answers      map[tlswire.Version]facts.Version
	suites       map[tlswire.Version][]tlswire.Suite // accepted, in the order found
	groups       []tlswire.Group                     // accepted, in the order found
	groupVersion tlswire.Version                     // of which the groups are
	schemes      schemes
	failure      facts.Outcome // the last way in which no TLS answer came
	leaf         *pki.Certificate
	silent       bool // hellos were not answered in time
	host         *hostGate
	time         *stopwatch
}

// ErrBusy says that as many visits as are allowed are at the host already.
var ErrBusy = errors.New("the host is being visited already")

// quickConnections bound a visit of quick effort.
const quickConnections = 6

// errTime is why a visit ends early.
var errTime = errors.New("the time of the visit is over")

// Visit waits until the host may be visited, and visits one address. From then
// on it ends within the limits. The error is the context's, when it ended the
// visit early, or ErrBusy; then there is no observation.
func (p *Prober) Visit(ctx context.Context, address netip.AddrPort, call Call) (facts.Observation, error) {
	if call.Effort == "" {
		call.Effort = facts.Normal
	}
	v := &visit{
		prober: p, call: call, answers: map[tlswire.Version]facts.Version{}, suites: map[tlswire.Version][]tlswire.Suite{}, schemes: newSchemes(),
		observation: facts.Observation{
			Address: address, ServerName: call.ServerName, Effort: call.Effort,
			Versions: []facts.Version{}, Certificates: [][]byte{}, Connections: []facts.Connection{},
			Settings: &facts.Settings{RenegotiationInfo: facts.Unknown, ExtendedMasterSecret: facts.Unknown, EncryptThenMAC: facts.Unknown, Compression: facts.Unknown,
				FallbackSignal: facts.Unknown, SessionTickets: facts.Unknown, Resumption: facts.Unknown, Heartbeat: facts.Unknown, DowngradeMarker: facts.Unknown, ToleratesUnknown: facts.Unknown, ToleratesLarge: facts.Unknown},
		},
	}
	host, leave, err := p.gate.enter(ctx, address.Addr(), !call.NoQueue)
	switch {
	case err != nil:
		return facts.Observation{}, err
	case host == nil:
		return facts.Observation{}, ErrBusy
	}
	defer leave()
	limited, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	v.host, v.time = host, startStopwatch(p.limits.Visit, p.network.Now, func() { cancel(errTime) })
	defer v.time.pause()
	v.observation.At = p.network.Now().UTC().Truncate(time.Millisecond)
	if v.discover(limited) && call.Effort != facts.Quick {
		v.enumerate(limited)
		v.settings(limited)
		v.otherChains(limited)
		v.enumerateSchemes(limited)
		v.old(limited)
		v.plain(limited)
	}
	if ctx.Err() != nil {
		return facts.Observation{}, ctx.Err()
	}
	if errors.Is(context.Cause(limited), errTime) {
		v.observation.Cut = fmt.Sprintf("after %s and %d connections the time of the visit was over", p.limits.Visit, len(v.observation.Connections))
	}
	return v.conclude(), nil
}

// hello is an ordinary hello for the versions.
func (v *visit) hello(versions ...tlswire.Version) tlswire.ClientHello {
	h := tlswire.Ordinary(versions...)
	h.ServerName = v.call.ServerName
	_, _ = rand.Read(h.Random[:]) // crypto/rand never fails
	if h.Offers(tlswire.TLS13) {
		h.SessionID = slices.Clone(h.Random[:])
		_, _ = rand.Read(h.SessionID)
	} else { // what would be refused beside TLS 1.3
		h.Compression, h.Heartbeat = true, true
	}
	return h
}

// exchange sends a hello on a connection of its own.
func (v *visit) exchange(ctx context.Context, purpose string, hello tlswire.ClientHello) (tlswire.Answer, error) {
	conn, record, ok := v.connect(ctx, purpose)
	if !ok {
		return tlswire.Answer{}, errNoConnection
	}
	defer conn.Close()
	answer, err := tlswire.Exchange(conn, hello, tlswire.Options{Records: v.prober.limits.Records})
	err = conn.judged(err)
	v.close(conn, record, err)
	return answer, v.checked(hello, answer, err)
}

// checked notes what was chosen without having been offered.
func (v *visit) checked(hello tlswire.ClientHello, answer tlswire.Answer, err error) error {
	h := answer.Hello
	if h.Version == 0 {
		return err
	}
	what := ""
	switch {
	case !slices.Contains(hello.Versions, h.Version):
		what = h.Version.String()
	case !slices.Contains(hello.Suites, h.Suite):
		what = h.Suite.String()
	default:
		return err
	}
	v.observation.Settings.NotOffered = what
	return &tlswire.BadMessageError{Reason: "answered with " + what + ", which was not offered"}
}

var errNoConnection = errors.New("no connection")

// refused reports whether the endpoint answered with a refusal, which is any
// alert or close.
func refused(err error) bool {
	var alert *tlswire.AlertError
	return errors.As(err, &alert) || errors.Is(err, tlswire.ErrClosed)
}

// fail notes a way of not answering; the more telling one is kept.
func (v *visit) fail(outcome facts.Outcome, err error) {
	rank := map[facts.Outcome]int{facts.Refused: 1, facts.Reset: 2, facts.Timeout: 3, facts.NotTLS: 4, facts.TooSlow: 5, facts.TooMuch: 6, facts.BadMessage: 7, facts.DialogueRefused: 8, facts.Early: 9}
	if rank[outcome] > rank[v.failure] {
		v.failure, v.observation.Detail = outcome, err.Error()
	}
}

// conclude settles the outcome: any TLS answer is one.
func (v *visit) conclude() facts.Observation {
	o := &v.observation
	o.Outcome = v.failure
	for _, version := range slices.Backward(tlswire.Versions) {
		fact, known := v.answers[version]
		if !known {
			continue
		}
		for i, s := range v.suites[version] {
			if i == 0 {
				fact.Suite = s.String()
			}
			fact.Suites = append(fact.Suites, s.String())
		}
		o.Versions = append(o.Versions, fact)
		if fact.Answer == facts.Accepted || fact.Answer == facts.Declined && fact.Detail != "connection closed" {
			o.Outcome, o.Detail = facts.Answered, ""
		}
	}
	if o.Outcome == "" {
		o.Outcome = facts.Timeout
	}
	if o.Outcome != facts.Answered {
		o.Settings = nil
		if o.Outcome != facts.BadMessage {
			o.Versions = []facts.Version{}
		}
	}
	return *o
}

// connect opens a connection with the handshake's deadline set.
func (v *visit) connect(ctx context.Context, purpose string) (*countingConn, *facts.Connection, bool) {
	return v.connectTo(ctx, v.observation.Address, purpose)
}

func (v *visit) connectTo(ctx context.Context, address netip.AddrPort, purpose string) (*countingConn, *facts.Connection, bool) {
	p := v.prober
	most := limits.MostConnections
	if v.call.Effort == facts.Quick {
		most = quickConnections
	}
	if len(v.observation.Connections) >= most || ctx.Err() != nil {
		return nil, nil, false
	}
	if !v.turn(ctx) {
		return nil, nil, false
	}
	started := p.network.Now()
	dialing, cancel := context.WithTimeout(ctx, p.limits.Connect)
	defer cancel()
	raw, err := p.network.Dial(dialing, address)
	record := &facts.Connection{Purpose: purpose}
	if err != nil {
		record.Duration = p.network.Now().Sub(started)
		if record.Outcome = err.Error(); address == v.observation.Address {
			record.Outcome = v.dialFailure(err)
		}
		v.observation.Connections = append(v.observation.Connections, *record)
		p.gate.passed()
		return nil, nil, false
	}
	deadline := p.network.Now().Add(p.limits.Handshake)
	_ = raw.SetDeadline(deadline) // a connection that refuses a deadline fails at the first read
	stop := context.AfterFunc(ctx, func() { _ = raw.SetDeadline(time.Unix(1, 0)) })
	conn := &countingConn{Conn: raw, started: started, stop: stop, most: p.limits.Bytes, now: p.network.Now, late: deadline.Add(-p.limits.Handshake / 2)}
	if address == v.observation.Address {
		if err := upgrade(conn, v.call.Scheme, v.addressee()); err != nil {
			v.dialogueFailure(conn, err)
			v.close(conn, record, err)
			return nil, nil, false
		}
	}
	conn.before = conn.received
	return conn, record, true
}

// turn waits until another connection may be made. The visit's time stands still meanwhile.
func (v *visit) turn(ctx context.Context) bool {
	if !v.time.pause() {
		return false
	}
	defer v.time.resume()
	return v.prober.gate.pass(ctx, v.host) == nil
}

// addressee is the name that a dialogue addresses.
func (v *visit) addressee() string {
	if v.call.ServerName != "" {
		return v.call.ServerName
	}
	return v.observation.Address.Addr().String()
}

func (v *visit) dialogueFailure(conn *countingConn, err error) {
	var early *earlyError
	var much *tlswire.TooMuchError
	switch {
	case errors.As(err, &much):
		v.fail(facts.TooMuch, err)
	case isTimeout(err) && conn.last.After(conn.late): // it went on and on
		v.silent = true
		v.fail(facts.TooSlow, fmt.Errorf("%d bytes of its dialogue came in %s, and it was not over", conn.received, v.prober.limits.Handshake))
	case isTimeout(err):
		v.silent = true
		v.fail(facts.Timeout, errors.New("connected, but its dialogue did not go on in time"))
	case errors.As(err, &early):
		v.fail(facts.Early, err)
	default:
		v.fail(facts.DialogueRefused, err)
	}
}

func (v *visit) dialFailure(err error) string {
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		v.fail(facts.Refused, errors.New("the connection was refused: nothing listens on the port"))
	case errors.Is(err, syscall.ECONNRESET): // accepted, and dropped before we knew
		v.fail(facts.Reset, tlswire.ErrClosed)
	case isTimeout(err):
		v.fail(facts.Timeout, errors.New("no connection came about in time"))
	default:
		v.fail(facts.Refused, err)
	}
	return err.Error()
}

// close ends the connection and keeps its record.
func (v *visit) close(conn *countingConn, record *facts.Connection, err error) {
	conn.stop()
	_ = conn.Close()
	v.prober.gate.passed()
	record.Sent, record.Received = conn.sent, conn.received
	record.Duration = v.prober.network.Now().Sub(conn.started)
	record.Outcome = "answered"
	if failure := (*net.OpError)(nil); errors.As(err, &failure) {
		err = failure.Err // without our own port, which is another in every visit
	}
	if err != nil {
		record.Outcome = pki.Printable(err.Error())
	}
	v.observation.Connections = append(v.observation.Connections, *record)
}

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
