package tlswire

import (
	"crypto"
	"crypto/subtle"
	"errors"
	"fmt"
	"io"
	"slices"

	"golang.org/x/crypto/cryptobyte"
)

// flight12 reads the first flight of SSL 3.0 to TLS 1.2, up to ServerHelloDone.
func (t *talk) flight12() error {
	requests := 0
	for {
		kind, body, err := t.hear()
		switch {
		case err != nil && errors.Is(err, ErrClosed):
			return &BadMessageError{"the connection was closed after the ServerHello"}
		case err != nil:
			return err
		}
		version := t.answer.Hello.Version
		switch kind {
		case messageHelloRequest: // a server may ask for another handshake at any time, and is not heeded (7.4.1.1)
			if !t.deaf { // nor does it count for the transcript
				t.transcript = t.transcript[:len(t.transcript)-4-len(body)]
			}
			if requests++; requests > maxWarnings {
				err = &TooMuchError{fmt.Sprintf("%d HelloRequests came", requests)}
			}
		case messageCertificate:
			t.answer.Chain, err = ParseCertificates(body)
			if value, ok := t.answer.Hello.Extensions[extTimestamps]; ok {
				t.answer.Chain.Timestamps = parseTimestamps(value)
			}
		case messageCertificateStatus:
			t.answer.Chain.Staple, err = ParseCertificateStatus(body)
		case messageServerKeyExchange:
			err = t.keyExchange(body)
		case messageCertificateRequest:
			var r CertificateRequest
			if r, err = ParseCertificateRequest(body, version); err == nil {
				t.answer.Request = &r
			}
		case messageServerHelloDone:
			return nil
		default:
			err = &BadMessageError{fmt.Sprintf("handshake message %d came where none of this kind belongs", kind)}
		}
		if err != nil {
			return err
		}
	}
}

func (t *talk) keyExchange(body []byte) error {
	h := t.answer.Hello
	k, err := ParseKeyExchange(body, h.Suite, h.Version)
	if err != nil {
		return err
	}
	t.answer.Exchange = &k
	if k.Signed {
		signed := slices.Concat(t.hello.Random[:], h.Random[:], k.Params)
		t.answer.Proof = &Proof{k.Scheme, h.Version, signed, k.Signature}
	}
	return nil
}

// handshake12 goes on after a ServerHello of TLS 1.2 or older.
func (t *talk) handshake12() error {
	if t.resumes() {
		return nil
	}
	if err := t.flight12(); err != nil {
		return err
	}
	h := t.answer.Hello
	if h.Version < TLS10 || h.Compression != 0 {
		t.answer.Unfinished = "records of " + h.Version.String() + " are not read here, or are compressed"
		return nil
	}
	keys, err := keysOf(h.Suite)
	if err != nil {
		t.answer.Unfinished = err.Error()
		return nil
	}
	keys.macLast = h.EncryptThenMAC()
	public, secret, err := t.agree12()
	if err != nil {
		if errors.Is(err, ErrSuite) {
			t.answer.Unfinished = err.Error()
			return nil
		}
		return err
	}
	if t.answer.Request != nil {
		if err := t.say(message(messageCertificate, []byte{0, 0, 0})); err != nil {
			return err
		}
	}
	if err := t.say(message(messageClientKeyExchange, public)); err != nil {
		return err
	}
	return t.conclude12(keys, t.master(secret))
}

// resumes reports whether the server goes on with the session of the ticket or
// identifier: then no certificate comes, but a ticket or the change of ciphers.
// Nothing more is learnt from it. Beside TLS 1.3 an identifier means nothing.
func (t *talk) resumes() bool {
	t.answer.Resumed = len(t.hello.SessionID) > 0 && !t.hello.Offers(TLS13) &&
		slices.Equal(t.hello.SessionID, t.answer.Hello.SessionID)
	return t.answer.Resumed
}

// agree12 makes our ClientKeyExchange and the premaster secret.
func (t *talk) agree12() (body, secret []byte, err error) {
	h, k := t.answer.Hello, t.answer.Exchange
	var b cryptobyte.Builder
	switch exchange := h.Suite.Properties().KeyExchange; {
	case k != nil && k.HintedOnly:
		return nil, nil, fmt.Errorf("%w: %s", ErrSuite, h.Suite)
	case exchange == "ECDHE" && k != nil:
		a, err := agree(k.Group, t.options.Random)
		if err != nil {
			return nil, nil, err
		}
		secret, err = a.finish(k.Public)
		b.AddUint8LengthPrefixed(func(p *cryptobyte.Builder) { p.AddBytes(a.share.Data) })
		return b.BytesOrPanic(), secret, err
	case exchange == "DHE" && k != nil:
		public, secret, err := agreeFinite(*k, t.options.Random)
		b.AddUint16LengthPrefixed(func(p *cryptobyte.Builder) { p.AddBytes(public) })
		return b.BytesOrPanic(), secret, err
	case exchange == "RSA" && t.options.EncryptRSA != nil && len(t.answer.Chain.Certificates) > 0:
		secret = make([]byte, 48)
		if _, err := io.ReadFull(t.options.Random, secret); err != nil {
			return nil, nil, err
		}
		offered := min(t.hello.Highest(), TLS12)
		secret[0], secret[1] = byte(offered>>8), byte(offered)
		encrypted, err := t.options.EncryptRSA(t.answer.Chain.Certificates[0], secret)
		if err != nil {
			return nil, nil, fmt.Errorf("%w: %w", ErrSuite, err)
		}
		b.AddUint16LengthPrefixed(func(p *cryptobyte.Builder) { p.AddBytes(encrypted) })
		return b.BytesOrPanic(), secret, nil
	}
	return nil, nil, fmt.Errorf("%w: %s", ErrSuite, h.Suite)
}

// master makes the master secret, of the extended kind where that was agreed (RFC 7627, 4).
func (t *talk) master(secret []byte) []byte {
	h := t.answer.Hello
	label, seed := "master secret", slices.Concat(t.hello.Random[:], h.Random[:])
	if h.ExtendedMaster() {
		label, seed = "extended master secret", digest(h.Version, hashOf(h.Suite), t.transcript)
	}
	master := prf(h.Version, hashOf(h.Suite), secret, label, seed, 48)
	t.log("CLIENT_RANDOM", master)
	return master
}

// conclude12 changes to the new keys and exchanges the Finished messages.
func (t *talk) conclude12(k suiteKeys, master []byte) error {
	h := t.answer.Hello
	hash := hashOf(h.Suite)
	block := prf(h.Version, hash, master, "key expansion", slices.Concat(h.Random[:], t.hello.Random[:]),
		2*(k.mac+k.key+k.iv))
	cut := func(n int) (client, server []byte) {
		client, server, block = block[:n], block[n:2*n], block[2*n:]
		return client, server
	}
	clientMAC, serverMAC := cut(k.mac)
	clientKey, serverKey := cut(k.key)
	clientIV, serverIV := cut(k.iv)
	out, err := k.protection(h.Version, clientMAC, clientKey, clientIV, t.options.Random)
	if err != nil {
		return err
	}
	in, err := k.protection(h.Version, serverMAC, serverKey, serverIV, t.options.Random)
	if err != nil {
		return err
	}
	finished := func(label string) []byte {
		return prf(h.Version, hash, master, label, digest(h.Version, hash, t.transcript), 12)
	}
	if err := t.write(contentChangeCipherSpec, []byte{1}); err != nil {
		return err
	}
	t.out = out
	if err := t.say(message(messageFinished, finished("client finished"))); err != nil {
		return err
	}
	t.changed = func() { t.in = in }
	for {
		want := finished("server finished")
		kind, body, err := t.hear()
		switch {
		case err != nil:
			return err
		case kind == messageNewSessionTicket:
			s := cryptobyte.String(body)
			var lifetime uint32
			var ticket cryptobyte.String
			if s.ReadUint32(&lifetime) && s.ReadUint16LengthPrefixed(&ticket) && len(ticket) <= maxEcho {
				t.answer.TicketGiven, t.answer.Ticket = len(ticket) > 0, slices.Clone(ticket)
			}
		case kind == messageFinished:
			if t.in == nil || subtle.ConstantTimeCompare(body, want) != 1 {
				return &BadMessageError{"its Finished message is wrong"}
			}
			t.answer.Finished = true
			return nil
		default:
			return &BadMessageError{fmt.Sprintf("handshake message %d came where none of this kind belongs", kind)}
		}
	}
}

// protection makes the protection of one direction.
func (k suiteKeys) protection(version Version, mac, key, iv []byte, random io.Reader) (protection, error) {
	if k.aead != nil {
		aead, err := k.aead(key)
		return &aeadRecords{aead: aead, iv: iv}, err
	}
	m := &macRecords{version: version, mac: func() crypto.Hash { return k.hash }, key: mac,
		macLast: k.macLast && k.block != nil, chain: iv,
		random: func(p []byte) { _, _ = io.ReadFull(random, p) }} // the reader was asked before and gave
	var err error
	if k.block != nil {
		m.block, err = k.block(key)
	} else {
		m.stream, err = k.stream(key)
	}
	return m, err
}
