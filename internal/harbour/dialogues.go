package harbour

import (
	"bufio"
	"context"
	"crypto/tls"
	"io"
	"net"
	"strings"
	"time"
)

// dialogue is the server's side of a protocol that begins in plaintext. It
// reports whether TLS comes next.
type dialogue func(in *bufio.Reader, out io.Writer) bool

// lines plays a dialogue of lines: a greeting, then an answer to each command
// that begins with a word. The last one leads to TLS.
func lines(greeting string, steps ...[2]string) dialogue {
	return func(in *bufio.Reader, out io.Writer) bool {
		if _, err := io.WriteString(out, greeting); err != nil {
			return false
		}
		for _, step := range steps {
			line, err := in.ReadString('\n')
			if err != nil || !strings.Contains(strings.ToUpper(line), step[0]) {
				return false
			}
			if _, err := io.WriteString(out, step[1]); err != nil {
				return false
			}
		}
		return true
	}
}

// dialogues are those of the harbour's services, by scheme.
var dialogues = map[string]dialogue{
	"smtp": lines("220-post.tarnholm.example\r\n220 at your service\r\n",
		[2]string{"EHLO", "250-post.tarnholm.example\r\n250-PIPELINING\r\n250 STARTTLS\r\n"},
		[2]string{"STARTTLS", "220 go ahead\r\n"}),
	"submission": lines("220 post.tarnholm.example\r\n", [2]string{"EHLO", "250-STARTTLS\r\n250 8BITMIME\r\n"},
		[2]string{"STARTTLS", "220 go ahead\r\n"}),
	"lmtp": lines("220 post.tarnholm.example\r\n", [2]string{"LHLO", "250 STARTTLS\r\n"},
		[2]string{"STARTTLS", "220 go ahead\r\n"}),
	"imap": lines("* OK [CAPABILITY IMAP4rev1 STARTTLS] ready\r\n", [2]string{"STARTTLS", "a1 OK begin\r\n"}),
	"pop3": lines("+OK ready\r\n", [2]string{"STLS", "+OK begin\r\n"}),
	"sieve": lines("\"IMPLEMENTATION\" \"harbour\"\r\n\"STARTTLS\"\r\nOK\r\n",
		[2]string{"STARTTLS", "OK begin\r\n"}),
	"ftp":  lines("220 files\r\n", [2]string{"AUTH TLS", "234 begin\r\n"}),
	"nntp": lines("200 news\r\n", [2]string{"STARTTLS", "382 begin\r\n"}),
	"xmpp": stream, "xmpp-server": stream, "ldap": directory, "postgres": database, "mysql": tables,
}

// stream is XMPP's (RFC 6120, 5).
func stream(in *bufio.Reader, out io.Writer) bool {
	if _, err := in.ReadString('>'); err != nil { // the XML declaration
		return false
	}
	if _, err := in.ReadString('>'); err != nil {
		return false
	}
	_, err := io.WriteString(out,
		"<?xml version='1.0'?><stream:stream xmlns='jabber:client' "+
			"xmlns:stream='http://etherx.jabber.org/streams' id='1' version='1.0'>"+
			"<stream:features><starttls "+
			"xmlns='urn:ietf:params:xml:ns:xmpp-tls'><required/></starttls></stream:features>")
	if err != nil {
		return false
	}
	request, err := in.ReadString('>')
	if err != nil || !strings.Contains(request, "<starttls") {
		return false
	}
	_, err = io.WriteString(out, "<proceed xmlns='urn:ietf:params:xml:ns:xmpp-tls'/>")
	return err == nil
}

// directory is LDAP's StartTLS (RFC 4511, 4.14).
func directory(in *bufio.Reader, out io.Writer) bool {
	request := make([]byte, 31)
	if _, err := io.ReadFull(in, request); err != nil || request[5] != 0x77 {
		return false
	}
	_, err := out.Write([]byte{0x30, 12, 2, 1, 1, 0x78, 7, 0x0a, 1, 0, 4, 0, 4, 0})
	return err == nil
}

// database is PostgreSQL's.
func database(in *bufio.Reader, out io.Writer) bool {
	if _, err := io.ReadFull(in, make([]byte, 8)); err != nil {
		return false
	}
	_, err := out.Write([]byte{'S'})
	return err == nil
}

// tables is MySQL's.
func tables(in *bufio.Reader, out io.Writer) bool {
	greeting := append([]byte{10}, "8.0.0-harbour\x00\x01\x00\x00\x00saltsalt\x00\xff\xff\x21\x02\x00"...)
	greeting = append(greeting, make([]byte, 32)...)
	if _, err := out.Write(append([]byte{byte(len(greeting)), 0, 0, 0}, greeting...)); err != nil {
		return false
	}
	_, err := io.ReadFull(in, make([]byte, 36))
	return err == nil
}

// speak plays the dialogue and then serves TLS; what is between the two goes out in plaintext.
func speak(d dialogue, between string, config *tls.Config) behaviour {
	return func(_ context.Context, conn net.Conn) {
		_ = conn.SetDeadline(time.Now().Add(10 * time.Second))
		if !d(bufio.NewReaderSize(conn, 16), conn) {
			return
		}
		if between != "" {
			_, _ = io.WriteString(conn, between) // who has hung up needs no answer
		}
		server := tls.Server(conn, config)
		if server.Handshake() == nil {
			_, _ = io.Copy(io.Discard, server)
		}
	}
}
