package probe

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"syscall"

	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/words"
)

// refusedError says that a plaintext dialogue did not lead to TLS.
type refusedError struct{ reason facts.Reason }

func (e *refusedError) Error() string { return words.Of(e.reason) }

func unwilling(code facts.Code, args ...any) error {
	return &refusedError{facts.Because(code, args...)}
}

// earlyError says that plaintext came between the go-ahead and TLS.
type earlyError struct{ bytes []byte }

func (e *earlyError) reason() facts.Reason {
	return facts.Because(facts.PlaintextAfterGo, pki.Printable(string(e.bytes)))
}

func (e *earlyError) Error() string {
	return words.Of(e.reason())
}

// Limits of a dialogue: greetings of real servers have a dozen lines.
const (
	maxLines = 100
	maxLine  = 4096
)

// talker speaks a dialogue of lines.
type talker struct {
	conn  net.Conn
	in    *bufio.Reader
	lines int
}

// line reads one line without its end.
func (t *talker) line() (string, error) {
	if t.lines++; t.lines > maxLines {
		return "", unwilling(facts.EndlessDialogue, maxLines)
	}
	text, err := t.in.ReadSlice('\n')
	if errors.Is(err, bufio.ErrBufferFull) {
		return "", unwilling(facts.LongLine, maxLine)
	}
	return strings.TrimRight(string(text), "\r\n"), err
}

func (t *talker) say(text string) error {
	_, err := io.WriteString(t.conn, text)
	return err
}

// reply reads a numbered reply, which may have several lines, and wants the number.
func (t *talker) reply(what, number string) (lines []string, err error) {
	for {
		line, err := t.line()
		if err != nil {
			return lines, err
		}
		lines = append(lines, line)
		if len(line) >= 4 && line[3] == '-' {
			continue
		}
		if !strings.HasPrefix(line, number) {
			return lines, unwilling(facts.Unwilling, what, pki.Printable(line))
		}
		return lines, nil
	}
}

// until reads lines up to one that begins with one of the words, and wants the first of them.
func (t *talker) until(what string, words ...string) error {
	for {
		line, err := t.line()
		if err != nil {
			return err
		}
		for i, word := range words {
			if strings.HasPrefix(strings.ToUpper(line), word) {
				if i > 0 {
					return unwilling(facts.Unwilling, what, pki.Printable(line))
				}
				return nil
			}
		}
	}
}

// dialogues lead from plaintext to TLS, by scheme.
var dialogues = map[string]func(t *talker, host string) error{
	// RFC 3207
	"smtp":       func(t *talker, _ string) error { return t.mail("EHLO") },
	"submission": func(t *talker, _ string) error { return t.mail("EHLO") },
	"lmtp":       func(t *talker, _ string) error { return t.mail("LHLO") }, // RFC 2033
	"imap": func(t *talker, _ string) error { // RFC 3501, 6.2.1
		return t.steps("* ", "a1 STARTTLS\r\n", "A1 OK", "A1 NO", "A1 BAD")
	},
	// RFC 2595, 4
	"pop3": func(t *talker, _ string) error { return t.steps("+OK", "STLS\r\n", "+OK", "-ERR") },
	// RFC 5804, 2.2
	"sieve": func(t *talker, _ string) error { return t.steps("OK", "STARTTLS\r\n", "OK", "NO", "BYE") },
	// RFC 4217, 4
	"ftp": func(t *talker, _ string) error { return t.numbered("220", "AUTH TLS\r\n", "234") },
	// RFC 4642, 2.2
	"nntp": func(t *talker, _ string) error { return t.numbered("20", "STARTTLS\r\n", "382") },
	// RFC 6120, 5.4
	"xmpp":        func(t *talker, host string) error { return t.xmpp(host, "jabber:client") },
	"xmpp-server": func(t *talker, host string) error { return t.xmpp(host, "jabber:server") },
	"ldap":        (*talker).ldap, "postgres": (*talker).postgres, "mysql": (*talker).mysql,
}

// upgrade leads the connection to TLS. Nothing is sent together with the
// upgrade command.
func upgrade(conn net.Conn, scheme, host string) error {
	dialogue, ok := dialogues[scheme]
	if !ok {
		return nil
	}
	t := &talker{conn: conn, in: bufio.NewReaderSize(conn, maxLine)}
	if err := dialogue(t, host); err != nil {
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, syscall.ECONNRESET) ||
			errors.Is(err, syscall.EPIPE) {
			return unwilling(facts.ClosedDialogue)
		}
		return err
	}
	if n := t.in.Buffered(); n > 0 {
		early, _ := t.in.Peek(min(n, 64)) // they are buffered
		return &earlyError{append([]byte(nil), early...)}
	}
	return nil
}

func (t *talker) steps(greeting, command string, words ...string) error {
	if err := t.until("the connection", greeting); err != nil {
		return err
	}
	if err := t.say(command); err != nil {
		return err
	}
	return t.until(strings.TrimSpace(command), words...)
}

func (t *talker) numbered(greeting, command, number string) error {
	if _, err := t.reply("the connection", greeting); err != nil {
		return err
	}
	if err := t.say(command); err != nil {
		return err
	}
	_, err := t.reply(strings.TrimSpace(command), number)
	return err
}

func (t *talker) mail(hello string) error {
	if _, err := t.reply("the connection", "220"); err != nil {
		return err
	}
	if err := t.say(hello + " nurvik.invalid\r\n"); err != nil {
		return err
	}
	lines, err := t.reply(hello, "250")
	if err != nil {
		return err
	}
	if !strings.Contains(strings.ToUpper(strings.Join(lines, "\n")+"\n"), "STARTTLS\n") {
		return unwilling(facts.UpgradeMissing, "STARTTLS")
	}
	if err := t.say("STARTTLS\r\n"); err != nil {
		return err
	}
	_, err = t.reply("STARTTLS", "220")
	return err
}

func (t *talker) xmpp(host, namespace string) error {
	open := fmt.Sprintf("<?xml version='1.0'?><stream:stream to='%s' xmlns='%s' "+
		"xmlns:stream='http://etherx.jabber.org/streams' version='1.0'>", host, namespace)
	if err := t.say(open); err != nil {
		return err
	}
	features, err := t.element("</stream:features>", "<stream:features/>", "</stream:stream>")
	if err != nil {
		return err
	}
	if !strings.Contains(features, "urn:ietf:params:xml:ns:xmpp-tls") {
		return unwilling(facts.UpgradeMissing, "STARTTLS")
	}
	if err := t.say("<starttls xmlns='urn:ietf:params:xml:ns:xmpp-tls'/>"); err != nil {
		return err
	}
	answer, err := t.element(">")
	if err == nil && !strings.Contains(answer, "<proceed") {
		return unwilling(facts.Unwilling, "STARTTLS", pki.Printable(answer))
	}
	return err
}

// element reads up to one of the ends.
func (t *talker) element(ends ...string) (string, error) {
	var out strings.Builder
	for out.Len() < 16*maxLine {
		b, err := t.in.ReadByte()
		if err != nil {
			return "", err
		}
		out.WriteByte(b)
		for _, end := range ends {
			if b == end[len(end)-1] && strings.HasSuffix(out.String(), end) {
				return out.String(), nil
			}
		}
	}
	return "", unwilling(facts.EndlessDialogue, "no end of")
}

// ldap asks for the StartTLS operation (RFC 4511, 4.14).
func (t *talker) ldap(string) error {
	const operation = "1.3.6.1.4.1.1466.20037"
	request := append([]byte{0x30, 29, 2, 1, 1, 0x77, 24, 0x80, 22}, operation...)
	if _, err := t.conn.Write(request); err != nil {
		return err
	}
	var header [2]byte
	if _, err := io.ReadFull(t.in, header[:]); err != nil {
		return err
	}
	if header[0] != 0x30 || header[1] > 0x84 || header[1] == 0x80 {
		return unwilling(facts.WrongProtocol, "LDAP")
	}
	length := int(header[1])
	if length > 0x80 {
		size := make([]byte, 4)
		if _, err := io.ReadFull(t.in, size[4-(length-0x80):]); err != nil {
			return err
		}
		length = int(min(binary.BigEndian.Uint32(size), maxLine+1))
	}
	if length > maxLine {
		return unwilling(facts.LongLine, maxLine)
	}
	body := make([]byte, length)
	if _, err := io.ReadFull(t.in, body); err != nil {
		return err
	}
	// messageID, then an ExtendedResponse whose first element is the result code.
	for i := 3; i+4 < len(body); i++ {
		if body[3] == 0x78 && body[i] == 0x0a && body[i+1] == 1 {
			if body[i+2] == 0 {
				return nil
			}
			return unwilling(facts.Unwilling, "StartTLS", fmt.Sprintf("result %d", body[i+2]))
		}
	}
	return unwilling(facts.WrongProtocol, "LDAP")
}

// postgres sends an SSLRequest (PostgreSQL's protocol, 55.2.11).
func (t *talker) postgres(string) error {
	if _, err := t.conn.Write([]byte{0, 0, 0, 8, 0x04, 0xd2, 0x16, 0x2f}); err != nil {
		return err
	}
	b, err := t.in.ReadByte()
	if err == nil && b != 'S' {
		return unwilling(facts.Unwilling, "SSLRequest", pki.Printable(string(b)))
	}
	return err
}

// mysql reads the greeting and sends the packet that asks for TLS.
func (t *talker) mysql(string) error {
	var header [4]byte
	if _, err := io.ReadFull(t.in, header[:]); err != nil {
		return err
	}
	length := int(header[0]) | int(header[1])<<8 | int(header[2])<<16
	if length < 20 || length > maxLine {
		return unwilling(facts.WrongProtocol, "MySQL")
	}
	greeting := make([]byte, length)
	if _, err := io.ReadFull(t.in, greeting); err != nil {
		return err
	}
	_, rest, ok := strings.Cut(string(greeting[1:]), "\x00")
	if greeting[0] != 10 || !ok || len(rest) < 15 {
		return unwilling(facts.WrongProtocol, "MySQL")
	}
	const wantsTLS = 0x0800
	if binary.LittleEndian.Uint16([]byte(rest[13:]))&wantsTLS == 0 {
		return unwilling(facts.UpgradeMissing, "TLS")
	}
	request := make([]byte, 4+32)
	request[0], request[3] = 32, 1
	binary.LittleEndian.PutUint32(request[4:], wantsTLS|0x0200|0x8000) // protocol 4.1, secure connection
	binary.LittleEndian.PutUint32(request[8:], 1<<24)
	request[12] = 33
	_, err := t.conn.Write(request)
	return err
}
