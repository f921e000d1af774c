package tlswire

import (
	"crypto/subtle"
	"fmt"
	"io"
	"slices"

	"golang.org/x/crypto/cryptobyte"
)

// Options say how a whole handshake is made.
type Options struct {
	Random  io.Reader
	Shares  []Group // in which a share is sent at once, for TLS 1.3
	Records int     // most that are read; 0 for 512
	// EncryptRSA encrypts the premaster secret for the leaf, for suites with RSA key exchange; nil
	// leaves them unfinished.
	EncryptRSA func(leaf, secret []byte) ([]byte, error)
	KeyLog     io.Writer // where secrets are written, for looking at one's own connections; nil for nowhere
}

// Proof is what the endpoint signed in the handshake.
type Proof struct {
	Scheme    SignatureScheme // 0 before TLS 1.2, where the hash is fixed
	Version   Version
	Message   []byte // what is signed
	Signature []byte
}

// Answer is what one connection taught.
type Answer struct {
	Hello       ServerHello
	Retried     *ServerHello // the HelloRetryRequest that came first
	Chain       CertificateMessage
	Exchange    *KeyExchange        // up to TLS 1.2
	Request     *CertificateRequest // a client certificate is asked for
	Proof       *Proof
	Encrypted   map[Extension][]byte // EncryptedExtensions of TLS 1.3
	Finished    bool                 // the handshake ended, and the server's Finished is right
	Unfinished  string               // why it was not ended, where it was tried
	Ticket      []byte               // that the server gave, up to TLS 1.2
	TicketGiven bool
	Resumed     bool // the server went on with the session that was offered
}

// Protocol is the application protocol that was chosen.
func (a Answer) Protocol() string {
	if a.Hello.Version == TLS13 {
		return protocolIn(a.Encrypted[extALPN])
	}
	return a.Hello.Protocol()
}

// Group is the group in which keys were agreed, 0 for none.
func (a Answer) Group() Group {
	if a.Exchange != nil {
		return a.Exchange.Group
	}
	return a.Hello.Share.Group
}

// Session is a connection after its handshake.
type Session struct {
	Answer
	records    *records
	resumption []byte // the secret of tickets in TLS 1.3
}

// Write sends application data.
func (s *Session) Write(p []byte) (int, error) {
	return len(p), s.records.write(contentApplication, p)
}

// CloseNotify says that no more comes (RFC 8446, 6.1).
func (s *Session) CloseNotify() error { return s.records.write(contentAlert, []byte{1, 0}) }

// Read returns application data as it comes.
func (s *Session) Read(p []byte) (int, error) {
	if len(s.records.data) == 0 {
		data, err := s.records.read()
		if err != nil {
			return 0, err
		}
		s.records.data = data
	}
	n := copy(p, s.records.data)
	s.records.data = s.records.data[n:]
	return n, nil
}

// talk is one handshake under way.
type talk struct {
	*records
	hello      ClientHello
	options    Options
	answer     Answer
	deaf       bool // nothing is kept for the transcript, because no keys are derived
	transcript []byte
	resumption []byte
}

// say sends a handshake message and keeps it.
func (t *talk) say(message []byte) error {
	t.transcript = append(t.transcript, message...)
	return t.write(contentHandshake, message)
}

// hear reads a handshake message and keeps it.
func (t *talk) hear() (byte, []byte, error) {
	kind, body, whole, err := t.next()
	if err == nil && !t.deaf {
		t.transcript = append(t.transcript, whole...)
	}
	return kind, body, err
}

func message(kind byte, body []byte) []byte {
	return append([]byte{kind, byte(len(body) >> 16), byte(len(body) >> 8), byte(len(body))}, body...)
}

// open sends the hello and reads the ServerHello.
func open(stream io.ReadWriter, hello ClientHello, o Options, deaf bool) (*talk, error) {
	t := &talk{deaf: deaf, records: &records{stream: stream, version: min(hello.Highest(), TLS10), limit: o.Records},
		hello: hello, options: o}
	t.transcript = hello.Message()
	if _, err := stream.Write(hello.record(t.transcript)); err != nil {
		return t, err
	}
	return t, t.serverHello()
}

func (t *talk) serverHello() error {
	kind, body, err := t.hear()
	if err != nil {
		return err
	}
	if kind != messageServerHello {
		return &BadMessageError{fmt.Sprintf("handshake message %d came instead of a ServerHello", kind)}
	}
	if t.answer.Hello, err = ParseServerHello(body); err != nil {
		return err
	}
	t.version = min(t.answer.Hello.Version, TLS12)
	return nil
}

// Exchange sends the hello and reads the answer as far as it is readable
// without keys: in TLS 1.3 the ServerHello, before it the whole first flight. Of
// the options the shares and the limit of records count.
// The stream's deadlines are the caller's.
//
// The error is an *AlertError, *NotTLSError, *BadMessageError, *NotOfferedError, *TooMuchError,
// ErrClosed or what the stream returned. With an error after the ServerHello
// the answer holds what was read until then.
func Exchange(stream io.ReadWriter, hello ClientHello, o Options) (Answer, error) {
	if _, err := share(&hello, o); err != nil {
		return Answer{}, err
	}
	t, err := open(stream, hello, o, true)
	if err != nil || t.answer.Hello.Version >= TLS13 {
		return t.answer, err
	}
	return t.answer, t.flight12()
}

// Handshake makes a whole handshake. Where it cannot be ended here, for want of
// a cipher or a group, or because the server wants a certificate, the session
// holds what was learnt, and Unfinished says why. The error is as for Exchange.
func Handshake(stream io.ReadWriter, hello ClientHello, o Options) (*Session, error) {
	agreements, err := share(&hello, o)
	if err != nil {
		return nil, err
	}
	t, err := open(stream, hello, o, false)
	s := &Session{records: t.records}
	if err == nil {
		if t.answer.Hello.Version == TLS13 {
			err = t.handshake13(agreements)
		} else {
			err = t.handshake12()
		}
	}
	s.Answer, s.resumption = t.answer, t.resumption
	return s, err
}

// share adds the shares that the options want.
func share(hello *ClientHello, o Options) (map[Group]agreement, error) {
	agreements := map[Group]agreement{}
	for _, g := range o.Shares {
		a, err := agree(g, o.Random)
		if err != nil {
			return nil, err
		}
		agreements[g] = a
		if hello.Offers(TLS13) {
			hello.Shares = append(hello.Shares, a.share)
		}
	}
	return agreements, nil
}

// handshake13 goes on after a ServerHello of TLS 1.3, or a HelloRetryRequest.
func (t *talk) handshake13(agreements map[Group]agreement) error {
	suite := t.answer.Hello.Suite
	if !slices.Contains(t.hello.Suites, suite) {
		return &NotOfferedError{suite.String()}
	}
	if t.answer.Hello.Retry {
		if err := t.retry(agreements); err != nil || t.answer.Unfinished != "" {
			return err
		}
	}
	a, ok := agreements[t.answer.Hello.Share.Group]
	if !ok {
		return &BadMessageError{"it chose the group " + t.answer.Hello.Share.Group.String() +
			", of which no share was sent"}
	}
	shared, err := a.finish(t.answer.Hello.Share.Data)
	if err != nil {
		return err
	}
	s := &schedule{hash: hashOf(suite)}
	var early []byte // nothing, or the key of the session that goes on
	if t.answer.Resumed = t.answer.Hello.Has(extPreSharedKey); t.answer.Resumed {
		if t.hello.Resume == nil || hashOf(t.hello.Resume.Suite) != s.hash {
			return &BadMessageError{"it goes on with a session that was not offered"}
		}
		early = t.hello.Resume.Key
	}
	s.extract(early)
	s.extract(shared)
	hellos := digest(TLS13, s.hash, t.transcript)
	client, server := s.derive("c hs traffic", hellos), s.derive("s hs traffic", hellos)
	t.log("CLIENT_HANDSHAKE_TRAFFIC_SECRET", client)
	t.log("SERVER_HANDSHAKE_TRAFFIC_SECRET", server)
	if t.in = s.protect(suite, server); s.err != nil {
		t.answer.Unfinished = s.err.Error()
		return nil
	}
	if err := t.flight13(s, server); err != nil {
		return err
	}
	return t.conclude13(s, client)
}

// retry answers a HelloRetryRequest (RFC 8446, 4.1.2 and 4.4.1).
func (t *talk) retry(agreements map[Group]agreement) error {
	request := t.answer.Hello
	t.answer.Retried = &request
	first, rest := t.hello.Message(), t.transcript[len(t.hello.Message()):]
	t.transcript = append(message(254, digest(TLS13, hashOf(request.Suite), first)), rest...)
	group := request.Share.Group
	if group != 0 {
		if _, sent := agreements[group]; sent || !slices.Contains(t.hello.Groups, group) {
			return &BadMessageError{"it asks for a share of " + group.String() +
				", which was sent already or not offered"}
		}
		a, err := agree(group, t.options.Random)
		if err != nil {
			t.answer.Unfinished = err.Error()
			return nil
		}
		clear(agreements)
		agreements[group] = a
		t.hello.Shares = []KeyShare{a.share}
	}
	if n := len(request.Cookie); n > maxEcho {
		return &TooMuchError{fmt.Sprintf("a cookie of %d bytes came", n)}
	}
	t.hello.Cookie = request.Cookie
	if r := t.hello.Resume; r != nil && hashOf(r.Suite) != hashOf(request.Suite) {
		t.hello.Resume = nil // it cannot be used with that suite
	}
	if err := t.write(contentChangeCipherSpec, []byte{1}); err != nil { // for middleboxes (RFC 8446, D.4)
		return err
	}
	if err := t.say(t.hello.messageAfter(t.transcript)); err != nil {
		return err
	}
	if err := t.serverHello(); err != nil {
		return err
	}
	if t.answer.Hello.Retry {
		return &BadMessageError{"a second HelloRetryRequest came"}
	}
	return nil
}

// flight13 reads the server's encrypted flight.
func (t *talk) flight13(s *schedule, server []byte) error {
	for {
		before := t.transcript
		kind, body, err := t.hear()
		if err != nil {
			return err
		}
		switch kind {
		case messageEncryptedExtensions:
			s := cryptobyte.String(body)
			if t.answer.Encrypted, err = parseExtensions(&s, "EncryptedExtensions"); err != nil {
				return err
			}
		case messageCertificateRequest:
			r, err := ParseCertificateRequest(body, TLS13)
			if err != nil {
				return err
			}
			t.answer.Request = &r
		case messageCertificate:
			if t.answer.Chain, err = ParseCertificates13(body); err != nil {
				return err
			}
		case messageCertificateVerify:
			scheme, signature, err := parseCertificateVerify(body)
			if err != nil {
				return err
			}
			t.answer.Proof = &Proof{scheme, TLS13, signedContent(digest(TLS13, s.hash, before)), signature}
		case messageFinished:
			if subtle.ConstantTimeCompare(body, s.finished(server, before)) != 1 {
				return &BadMessageError{"its Finished message is wrong"}
			}
			return nil
		default:
			return &BadMessageError{fmt.Sprintf("handshake message %d came where none of this kind belongs", kind)}
		}
	}
}

// signedContent is what a server signs in TLS 1.3 (RFC 8446, 4.4.3).
func signedContent(transcript []byte) []byte {
	out := slices.Repeat([]byte{0x20}, 64)
	out = append(append(out, "TLS 1.3, server CertificateVerify"...), 0)
	return append(out, transcript...)
}

// conclude13 sends our part and turns to application data.
func (t *talk) conclude13(s *schedule, client []byte) error {
	afterServer := t.transcript
	if t.answer.Retried == nil { // for middleboxes (RFC 8446, D.4), in the clear
		if err := t.write(contentChangeCipherSpec, []byte{1}); err != nil {
			return err
		}
	}
	if t.out = s.protect(t.answer.Hello.Suite, client); s.err != nil {
		return s.err
	}
	if t.answer.Request != nil {
		if err := t.say(message(messageCertificate, []byte{0, 0, 0, 0})); err != nil {
			return err
		}
	}
	if err := t.say(message(messageFinished, s.finished(client, t.transcript))); err != nil {
		return err
	}
	s.extract(nil)
	t.resumption = s.derive("res master", digest(TLS13, s.hash, t.transcript))
	hellos := digest(TLS13, s.hash, afterServer)
	clientTraffic, serverTraffic := s.derive("c ap traffic", hellos), s.derive("s ap traffic", hellos)
	t.log("CLIENT_TRAFFIC_SECRET_0", clientTraffic)
	t.log("SERVER_TRAFFIC_SECRET_0", serverTraffic)
	t.in, t.out = s.protect(t.answer.Hello.Suite, serverTraffic), s.protect(t.answer.Hello.Suite, clientTraffic)
	t.answer.Finished = s.err == nil
	t.update = func(body []byte) error { return t.updateKeys(s, body, &clientTraffic, &serverTraffic) }
	return s.err
}

// updateKeys heeds a KeyUpdate (RFC 8446, 4.6.3): the peer's next records are under its next secret, and if it wants
// that, ours too.
func (t *talk) updateKeys(s *schedule, body []byte, client, server *[]byte) error {
	if len(body) != 1 || body[0] > 1 {
		return &BadMessageError{"the KeyUpdate is malformed"}
	}
	next := func(secret *[]byte) protection {
		*secret = s.label(*secret, "traffic upd", nil, s.hash.Size())
		return s.protect(t.answer.Hello.Suite, *secret)
	}
	t.in = next(server)
	if body[0] == 1 {
		if err := t.write(contentHandshake, message(messageKeyUpdate, []byte{0})); err != nil {
			return err
		}
		t.out = next(client)
	}
	return s.err
}

// log writes a secret in the form that packet analysers read.
func (t *talk) log(label string, secret []byte) {
	if t.options.KeyLog != nil {
		// a log that is full is the caller's matter
		_, _ = fmt.Fprintf(t.options.KeyLog, "%s %x %x\n", label, t.hello.Random, secret)
	}
}
