package probe_test

import (
	"bufio"
	"bytes"
	"crypto/tls"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/probe"
	"nurvik/core/words"
)

// script answers each line of the client with the next text, and then speaks TLS.
func script(config *tls.Config, texts ...string) func(net.Conn) {
	return func(c net.Conn) {
		in := bufio.NewReaderSize(c, 16)
		for i, text := range texts {
			if i > 0 {
				if _, err := in.ReadString('\n'); err != nil {
					return
				}
			}
			_, _ = io.WriteString(c, text)
		}
		if config != nil {
			_ = tls.Server(c, config).Handshake()
		}
	}
}

func TestDialogues(t *testing.T) {
	config := &tls.Config{Certificates: []tls.Certificate{certificate(t, "EC", name)}}
	ldap := func(answer ...byte) func(net.Conn) {
		return func(c net.Conn) {
			_, _ = io.ReadFull(c, make([]byte, 31))
			_, _ = c.Write(answer)
			_ = tls.Server(c, config).Handshake()
		}
	}
	postgres := func(answer string) func(net.Conn) {
		return func(c net.Conn) {
			_, _ = io.ReadFull(c, make([]byte, 8))
			_, _ = io.WriteString(c, answer)
			_ = tls.Server(c, config).Handshake()
		}
	}
	xmpp := func(features, answer string) func(net.Conn) {
		return func(c net.Conn) {
			in := bufio.NewReaderSize(c, 16)
			_, _ = in.ReadString('>')
			_, _ = in.ReadString('>')
			_, _ = io.WriteString(c, "<stream:stream>"+features)
			_, _ = in.ReadString('>')
			_, _ = io.WriteString(c, answer)
			_ = tls.Server(c, config).Handshake()
		}
	}
	greeting := func(capabilities byte) func(net.Conn) {
		return func(c net.Conn) {
			body := append([]byte{10}, "5.7\x00\x01\x00\x00\x00saltsalt\x00"...)
			body = append(body, 0xff, capabilities, 0x21, 0, 0, 0, 0, 0)
			_, _ = c.Write(append([]byte{byte(len(body)), 0, 0, 0}, body...))
			_, _ = io.ReadFull(c, make([]byte, 36))
			_ = tls.Server(c, config).Handshake()
		}
	}
	const offersTLS = "<stream:features><starttls xmlns='urn:ietf:params:xml:ns:xmpp-tls'/></stream:features>"
	tests := []struct {
		name, scheme string
		serve        func(net.Conn)
		outcome      facts.Outcome
		detail       string
	}{
		{"SMTP", "smtp", script(config, "220-a\r\n220 b\r\n", "250-x\r\n250 STARTTLS\r\n", "220 go\r\n"),
			facts.Answered, ""},
		{"SMTP without STARTTLS", "submission", script(config, "220 a\r\n", "250 PIPELINING\r\n"),
			facts.DialogueRefused, "STARTTLS is not offered"},
		{"SMTP with middle lines as FTP has them", "smtp",
			script(config, "220-a\r\n a harbour\r\n221 boats\r\n220 b\r\n", "250-STARTTLS \t\r\n250 ok\r\n",
				"220 go\r\n"),
			facts.Answered, ""},
		{"SMTP that is busy", "smtp", script(config, "421 too busy\r\n"), facts.Busy, `"421 too busy"`},
		{"SMTP that is busy later", "smtp", script(config, "220 a\r\n", "421 too busy\r\n"), facts.Busy, "too busy"},
		{"SMTP that hangs up at once", "smtp", func(net.Conn) {}, facts.Reset, "closed without an answer"},
		{"SMTP that refuses", "lmtp", script(config, "220 a\r\n", "250 STARTTLS\r\n", "454 not now\r\n"),
			facts.DialogueRefused, "454 not now"},
		{"SMTP without end", "smtp", script(config, strings.Repeat("220-a\r\n", 200)), facts.DialogueRefused,
			"100 lines came"},
		{"a line without end", "pop3", script(config, strings.Repeat("a", 9000)), facts.DialogueRefused,
			"longer than 4096 bytes"},
		{"SMTP that hangs up", "smtp", script(nil, "220 a\r\n"), facts.DialogueRefused, "closed in the middle"},
		{"IMAP", "imap", script(config, "* OK ready\r\n", "* noise\r\na1 OK go\r\n"), facts.Answered, ""},
		{"IMAP that refuses", "imap", script(config, "* OK ready\r\n", "a1 BAD what\r\n"), facts.DialogueRefused,
			"a1 BAD what"},
		{"IMAP that is busy", "imap", script(config, "* BYE too many\r\n"), facts.Busy, "* BYE too many"},
		{"IMAP that needs no login", "imap", script(config, "* PREAUTH hello\r\n"), facts.DialogueRefused, "PREAUTH"},
		{"POP3 that is busy", "pop3", script(config, "-ERR [SYS/TEMP] later\r\n"), facts.Busy, "SYS/TEMP"},
		{"plaintext at once after the go-ahead", "imap", script(config, "* OK ready\r\n", "a1 OK go\r\n* 1 EXISTS\r\n"),
			facts.Early, `"* 1 EXISTS`},
		{"plaintext a moment after", "imap", func(c net.Conn) {
			script(nil, "* OK ready\r\n", "a1 OK go\r\n")(c)
			time.Sleep(100 * time.Millisecond)
			_, _ = io.WriteString(c, "* 1 EXISTS\r\n")
			_, _ = io.Copy(io.Discard, c)
		}, facts.Early, `"* 1 E"`},
		{"POP3", "pop3", script(config, "+OK\r\n", "+OK\r\n"), facts.Answered, ""},
		{"sieve", "sieve", script(config, "\"SIEVE\" \"x\"\r\nOK\r\n", "OK\r\n"), facts.Answered, ""},
		{"FTP", "ftp", script(config, "220 a\r\n", "234 go\r\n"), facts.Answered, ""},
		{"FTP that refuses", "ftp", script(config, "220 a\r\n", "502 no\r\n"), facts.DialogueRefused, "502 no"},
		{"FTP that takes a while", "ftp", script(config, "120 in a minute\r\n220-a\r\nfiles\r\n220 \r\n", "234 go\r\n"),
			facts.Answered, ""},
		{"NNTP that is busy", "nntp", script(config, "400 load is high\r\n"), facts.Busy, "400 load is high"},
		{"NNTP", "nntp", script(config, "201 a\r\n", "382 go\r\n"), facts.Answered, ""},
		{"XMPP", "xmpp", xmpp(offersTLS, "<proceed xmlns='urn:ietf:params:xml:ns:xmpp-tls'/>"), facts.Answered, ""},
		{"XMPP without the feature", "xmpp", xmpp("<stream:features><bind/></stream:features>", ""),
			facts.DialogueRefused, "not offered"},
		{"XMPP that is busy", "xmpp", xmpp("<stream:error><resource-constraint xmlns='x'/></stream:error>", ""),
			facts.Busy,
			"resource-constraint"},
		{"XMPP for another host", "xmpp", xmpp("<stream:error><host-unknown/></stream:error>", ""),
			facts.DialogueRefused,
			"host-unknown"},
		{"XMPP that refuses", "xmpp-server", xmpp(offersTLS, "<failure/>"), facts.DialogueRefused, "<failure/>"},
		{"LDAP", "ldap", ldap(0x30, 12, 2, 1, 1, 0x78, 7, 0x0a, 1, 0, 4, 0, 4, 0), facts.Answered, ""},
		{"LDAP that is unavailable", "ldap", ldap(0x30, 12, 2, 1, 1, 0x78, 7, 0x0a, 1, 52, 4, 0, 4, 0), facts.Busy,
			"unavailable"},
		{"LDAP that refers elsewhere", "ldap", ldap(0x30, 12, 2, 1, 1, 0x78, 7, 0x0a, 1, 10, 4, 0, 4, 0),
			facts.DialogueRefused, "result 10 referral"},
		{"LDAP with a length in four bytes", "ldap", ldap(0x30, 0x84, 0, 0, 0, 12, 2, 1, 1, 0x78, 7, 0x0a, 1, 0, 4, 0,
			4, 0), facts.Answered, ""},
		{"LDAP with a gigantic length", "ldap", ldap(0x30, 0x84, 0x7f, 0xff, 0xff, 0xff), facts.DialogueRefused,
			"longer than 4096"},
		{"no LDAP", "ldap", ldap([]byte("HTTP/1.1 400")...), facts.DialogueRefused, "is not LDAP"},
		{"PostgreSQL", "postgres", postgres("S"), facts.Answered, ""},
		{"PostgreSQL without TLS", "postgres", postgres("N"), facts.DialogueRefused, `"N"`},
		{"PostgreSQL that is busy", "postgres",
			postgres("E\x00\x00\x00\x22SFATAL\x00C53300\x00Mtoo many clients\x00\x00"),
			facts.Busy, "too many clients"},
		{"PostgreSQL that says more", "postgres", postgres("Sx"), facts.Early, `"x"`},
		{"MySQL", "mysql", greeting(0xff), facts.Answered, ""},
		{"MySQL without TLS", "mysql", greeting(0), facts.DialogueRefused, "TLS is not offered"},
		{"MySQL that has locked us out", "mysql", script(nil, "\x1b\x00\x00\x00\xff\x69\x04Host 'a' is blocked; why"),
			facts.Busy, "error 1129 Host 'a' is blocked"},
		{"no MySQL", "mysql", script(config, "220 this is a mail server, mind you, and no database\r\n"),
			facts.DialogueRefused, "is not MySQL"},
		{"silence", "smtp", func(c net.Conn) { _, _ = io.Copy(io.Discard, c) }, facts.Timeout,
			"dialogue did not go on"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			deadlines := patient
			if tt.outcome == facts.Timeout {
				deadlines = impatient
			}
			o, err := probe.New(network(nil), deadlines).Visit(t.Context(), listen(t, tt.serve),
				probe.Call{ServerName: name, Scheme: tt.scheme, Effort: facts.Quick})
			require.NoError(t, err)
			assert.Equal(t, tt.outcome, o.Outcome, o.Detail)
			assert.Contains(t, words.Of(o.Detail), tt.detail)
			if tt.outcome == facts.Answered {
				assert.Equal(t, config.Certificates[0].Certificate, o.Certificates)
			}
		})
	}
}

// scriptedConn is a connection that answers with fixed bytes.
type scriptedConn struct {
	net.Conn
	in io.Reader
}

func (s scriptedConn) Read(p []byte) (int, error)  { return s.in.Read(p) }
func (s scriptedConn) Write(p []byte) (int, error) { return len(p), nil }

// FuzzDialogues gives every dialogue the same answer: none may crash or read without end.
func FuzzDialogues(f *testing.F) {
	f.Add([]byte("220 a\r\n250 STARTTLS\r\n220 go\r\n"))
	f.Add([]byte("* OK\r\na1 OK\r\n"))
	f.Add([]byte{0x30, 12, 2, 1, 1, 0x78, 7, 0x0a, 1, 0, 4, 0, 4, 0})
	f.Add(append([]byte{30, 0, 0, 0, 10}, "5.7\x00"...))
	f.Add([]byte("<stream:features><starttls xmlns='urn:ietf:params:xml:ns:xmpp-tls'/></stream:features><proceed/>"))
	f.Fuzz(func(t *testing.T, answer []byte) {
		for _, scheme := range probe.Dialogues() {
			in := bytes.NewReader(answer)
			if err := probe.Upgrade(scriptedConn{in: in}, scheme, name); err == nil {
				assert.Zero(t, in.Len(), "what follows the go-ahead is never passed over")
			}
		}
	})
}
