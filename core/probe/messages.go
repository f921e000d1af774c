package probe

import (
	"encoding/binary"
	"fmt"
	"io"
	"strings"

	"nurvik/core/facts"
	"nurvik/core/pki"
)

// These dialogues are of messages and not of lines.

func (t *talker) xmpp(host, namespace string) error {
	open := fmt.Sprintf("<?xml version='1.0'?><stream:stream to='%s' xmlns='%s' "+
		"xmlns:stream='http://etherx.jabber.org/streams' version='1.0'>", host, namespace)
	if err := t.say(open); err != nil {
		return err
	}
	features, err := t.element("</stream:features>", "<stream:features/>", "</stream:error>", "</stream:stream>")
	if err != nil {
		return err
	}
	if _, condition, failed := strings.Cut(features, "<stream:error>"); failed {
		for _, busy := range []string{"resource-constraint", "policy-violation", "system-shutdown"} { // RFC 6120, 4.9.3
			if strings.Contains(condition, "<"+busy) {
				return &busyError{condition}
			}
		}
		return unwilling(facts.Unwilling, "the connection", pki.Printable(condition))
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
	// messageID, then an ExtendedResponse whose first element is the result code. One that nobody asked for says
	// that the server is about to hang up (4.4.1).
	for i := 3; i+4 < len(body); i++ {
		if body[3] == 0x78 && body[i] == 0x0a && body[i+1] == 1 {
			switch result := int(body[i+2]); {
			case result == 0:
				return nil
			case result == 51, result == 52:
				return &busyError{ldapResults[result]}
			default:
				return unwilling(facts.Unwilling, "StartTLS",
					strings.TrimSpace(fmt.Sprintf("result %d %s", result, ldapResults[result])))
			}
		}
	}
	return unwilling(facts.WrongProtocol, "LDAP")
}

// ldapResults are the results that servers give to StartTLS (RFC 4511, 4.1.9).
var ldapResults = map[int]string{1: "operationsError", 2: "protocolError", 8: "strongerAuthRequired", 10: "referral",
	13: "confidentialityRequired", 50: "insufficientAccessRights", 51: "busy", 52: "unavailable",
	53: "unwillingToPerform", 80: "other"}

// postgres sends an SSLRequest (PostgreSQL's protocol, 55.2.11).
func (t *talker) postgres(string) error {
	if _, err := t.conn.Write([]byte{0, 0, 0, 8, 0x04, 0xd2, 0x16, 0x2f}); err != nil {
		return err
	}
	b, err := t.in.ReadByte()
	if err == nil && b == 'E' {
		return t.postgresError()
	}
	if err == nil && b != 'S' {
		return unwilling(facts.Unwilling, "SSLRequest", pki.Printable(string(b)))
	}
	return err
}

// postgresError reads the message of an ErrorResponse, whose fields are a letter and a text each; those of very old
// servers are one text.
func (t *talker) postgresError() error {
	text, err := t.in.Peek(min(max(t.in.Buffered(), 5), 1024))
	if err != nil {
		return err
	}
	said := string(text)
	for field := range strings.SplitSeq(string(text[4:]), "\x00") {
		if strings.HasPrefix(field, "M") {
			said = field[1:]
		}
	}
	return &busyError{said}
}

// mysql reads the greeting and sends the packet that asks for TLS.
func (t *talker) mysql(string) error {
	var header [4]byte
	if n, err := io.ReadFull(t.in, header[:]); err != nil {
		if t.lines = 1; n > 0 {
			return err
		}
		return t.first(err)
	}
	length := int(header[0]) | int(header[1])<<8 | int(header[2])<<16
	if length < 3 || length > maxLine {
		return unwilling(facts.WrongProtocol, "MySQL")
	}
	greeting := make([]byte, length)
	if _, err := io.ReadFull(t.in, greeting); err != nil {
		return err
	}
	if greeting[0] == 0xff && header[3] == 0 { // an error packet instead: too many connections, or the host is blocked
		return &busyError{fmt.Sprintf("error %d %s", binary.LittleEndian.Uint16(greeting[1:]), greeting[3:])}
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
