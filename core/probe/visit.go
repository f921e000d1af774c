package probe

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"net"
	"net/netip"
	"syscall"
	"time"

	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/tlswire"
)

// asked are the versions that a visit asks for, newest first.
var asked = []tlswire.Version{tlswire.TLS13, tlswire.TLS12, tlswire.TLS11, tlswire.TLS10}

// visit is one visit in the making.
type visit struct {
	prober      *Prober
	observation facts.Observation
	answers     map[tlswire.Version]facts.Version
	failure     facts.Outcome // the last way in which no TLS answer came
}

// Visit visits one address under one server name ("" sends none). It always
// ends within the visit's deadline. The error is the context's, when it ended
// the visit early; then there is no observation.
func (p *Prober) Visit(ctx context.Context, address netip.AddrPort, serverName string) (facts.Observation, error) {
	v := &visit{
		prober:  p,
		answers: map[tlswire.Version]facts.Version{},
		observation: facts.Observation{
			Address: address, ServerName: serverName, At: p.network.Now().UTC().Truncate(time.Millisecond),
			Versions: []facts.Version{}, Certificates: [][]byte{}, Connections: []facts.Connection{},
		},
	}
	limited, cancel := context.WithTimeout(ctx, p.deadlines.Visit)
	defer cancel()
	for _, version := range asked {
		if _, known := v.answers[version]; known {
			continue
		}
		if goOn := v.ask(limited, version); !goOn {
			break
		}
	}
	v.askAgain(limited)
	if v.answers[tlswire.TLS13].Answer == facts.Accepted && len(v.observation.Certificates) == 0 {
		v.fetch(limited)
	}
	if ctx.Err() != nil {
		return facts.Observation{}, ctx.Err()
	}
	return v.conclude(), nil
}

// askAgain offers once more the versions that were not answered in time, if
// others were answered: a busy endpoint or a lost packet is no refusal.
func (v *visit) askAgain(ctx context.Context) {
	answered := false
	for _, fact := range v.answers {
		answered = answered || fact.Answer == facts.Accepted
	}
	for _, version := range asked {
		if answered && v.answers[version].Answer == facts.NotShown {
			v.ask(ctx, version)
		}
	}
}

// ask offers one version and reports whether there is more to ask.
func (v *visit) ask(ctx context.Context, version tlswire.Version) bool {
	purpose := "offer " + version.String()
	conn, record, ok := v.connect(ctx, purpose)
	if !ok {
		return false
	}
	defer conn.Close()
	answer, err := tlswire.Exchange(conn, v.hello(version))
	v.close(conn, record, err)
	return v.learn(version, answer, err)
}

func (v *visit) hello(version tlswire.Version) tlswire.ClientHello {
	hello := tlswire.ClientHello{Version: version, ServerName: v.observation.ServerName}
	_, _ = rand.Read(hello.Random[:]) // crypto/rand never fails
	_, _ = rand.Read(hello.SessionID[:])
	hello.X25519 = v.prober.share()
	return hello
}

// learn takes in one answer.
func (v *visit) learn(version tlswire.Version, answer tlswire.Answer, err error) bool {
	var alert *tlswire.AlertError
	var notTLS *tlswire.NotTLSError
	var bad *tlswire.BadMessageError
	fact := facts.Version{Name: version.String(), Answer: facts.NotShown}
	if len(answer.Certificates) > 0 && len(v.observation.Certificates) == 0 {
		v.observation.Certificates, v.observation.Staple = answer.Certificates, answer.Staple
	}
	switch {
	case err == nil:
		v.accepted(version, answer.Hello)
		return true
	case errors.As(err, &alert):
		fact.Answer, fact.Detail = facts.Declined, "alert "+alert.Alert.Name()
	case errors.As(err, &notTLS):
		v.fail(facts.NotTLS, err)
		return false
	case errors.As(err, &bad):
		fact.Answer, fact.Detail = facts.Garbled, bad.Reason
		v.fail(facts.BadMessage, err)
	case isTimeout(err):
		fact.Detail = "no answer in time"
		v.fail(facts.Timeout, errors.New("connected, but no answer came in time"))
	default: // closed or reset
		fact.Answer, fact.Detail = facts.Declined, "connection closed"
		v.fail(facts.Reset, tlswire.ErrClosed)
	}
	v.answers[version] = fact
	// A hello that nobody answers is worth one more try with an older one, which very old
	// implementations understand better; after two the silence is the answer.
	return !isTimeout(err) || len(v.answers) < 2
}

// accepted notes the version that was chosen. A server that knows only older
// versions answers with its newest, which settles those in between as well.
func (v *visit) accepted(offered tlswire.Version, hello tlswire.ServerHello) {
	if hello.Version > offered {
		v.answers[offered] = facts.Version{Name: offered.String(), Answer: facts.Garbled, Detail: "answered with " + hello.Version.String() + ", which was not offered"}
		return
	}
	for _, version := range asked {
		if version <= offered && version > hello.Version {
			v.answers[version] = facts.Version{Name: version.String(), Answer: facts.Declined, Detail: "answered with " + hello.Version.String()}
		}
	}
	v.answers[hello.Version] = facts.Version{Name: hello.Version.String(), Answer: facts.Accepted, Suite: hello.Suite.String()}
}

// fail notes a way of not answering; the more telling one is kept.
func (v *visit) fail(outcome facts.Outcome, err error) {
	rank := map[facts.Outcome]int{facts.Refused: 1, facts.Reset: 2, facts.Timeout: 3, facts.NotTLS: 4, facts.BadMessage: 5}
	if rank[outcome] > rank[v.failure] {
		v.failure, v.observation.Detail = outcome, err.Error()
	}
}

// conclude settles the outcome: any TLS answer is one.
func (v *visit) conclude() facts.Observation {
	o := &v.observation
	o.Outcome = v.failure
	for _, version := range append([]tlswire.Version{tlswire.SSL30}, asked...) {
		fact, known := v.answers[version]
		if !known {
			continue
		}
		o.Versions = append(o.Versions, fact)
		if fact.Answer == facts.Accepted || fact.Answer == facts.Declined && fact.Detail != "connection closed" {
			o.Outcome, o.Detail = facts.Answered, ""
		}
	}
	if o.Outcome == "" {
		o.Outcome = facts.Timeout
	}
	if o.Outcome != facts.Answered && o.Outcome != facts.BadMessage {
		o.Versions = []facts.Version{}
	}
	return *o
}

// connect opens a connection with the handshake's deadline set.
func (v *visit) connect(ctx context.Context, purpose string) (*countingConn, *facts.Connection, bool) {
	p := v.prober
	started := p.network.Now()
	dialing, cancel := context.WithTimeout(ctx, p.deadlines.Connect)
	defer cancel()
	raw, err := p.network.Dial(dialing, v.observation.Address)
	record := &facts.Connection{Purpose: purpose}
	if err != nil {
		record.Duration = p.network.Now().Sub(started)
		record.Outcome = v.dialFailure(err)
		v.observation.Connections = append(v.observation.Connections, *record)
		return nil, nil, false
	}
	deadline := started.Add(p.deadlines.Handshake)
	if limit, ok := ctx.Deadline(); ok && limit.Before(deadline) {
		deadline = limit
	}
	_ = raw.SetDeadline(deadline) // a connection that refuses a deadline fails at the first read
	stop := context.AfterFunc(ctx, func() { _ = raw.SetDeadline(time.Unix(1, 0)) })
	return &countingConn{Conn: raw, started: started, stop: stop}, record, true
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
	record.Sent, record.Received = conn.sent, conn.received
	record.Duration = v.prober.network.Now().Sub(conn.started)
	record.Outcome = "answered"
	if err != nil {
		record.Outcome = pki.Printable(err.Error())
	}
	v.observation.Connections = append(v.observation.Connections, *record)
}

// fetch gets the certificates of an endpoint that speaks only TLS 1.3, where
// they are encrypted.
func (v *visit) fetch(ctx context.Context) {
	conn, record, ok := v.connect(ctx, "fetch certificates over TLS 1.3")
	if !ok {
		return
	}
	defer conn.Close()
	client := tls.Client(conn, &tls.Config{
		ServerName: v.observation.ServerName, MinVersion: tls.VersionTLS13,
		InsecureSkipVerify: true, // the certificates are judged later; a visit refuses none
	})
	err := client.HandshakeContext(ctx)
	for _, c := range client.ConnectionState().PeerCertificates {
		v.observation.Certificates = append(v.observation.Certificates, c.Raw)
	}
	v.observation.Staple = client.ConnectionState().OCSPResponse
	v.close(conn, record, err)
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
}

func (c *countingConn) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	c.received += n
	return n, err
}

func (c *countingConn) Write(p []byte) (int, error) {
	n, err := c.Conn.Write(p)
	c.sent += n
	return n, err
}
