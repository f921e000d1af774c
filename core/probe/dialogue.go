package probe

import (
	"bufio"
	"errors"
	"io"
	"net"
	"strings"
	"syscall"

	"nurvik/core/facts"
	"nurvik/core/tlswire"
)

// dialogues lead from plaintext to TLS, by scheme.
var dialogues = map[string]func(t *talker, host string) error{
	// RFC 3207
	"smtp":       func(t *talker, _ string) error { return t.mail("EHLO") },
	"submission": func(t *talker, _ string) error { return t.mail("EHLO") },
	"lmtp":       func(t *talker, _ string) error { return t.mail("LHLO") }, // RFC 2033
	"imap": func(t *talker, _ string) error { // RFC 3501, 6.2.1
		return t.steps("* OK", "* BYE", "a1 STARTTLS\r\n", "A1 OK", "A1 NO", "A1 BAD", "* BYE")
	},
	// RFC 2595, 4
	"pop3": func(t *talker, _ string) error { return t.steps("+OK", "-ERR", "STLS\r\n", "+OK", "-ERR") },
	// RFC 5804, 2.2
	"sieve": func(t *talker, _ string) error { return t.steps("OK", "BYE", "STARTTLS\r\n", "OK", "NO", "BYE") },
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
		if errors.Is(err, tlswire.ErrClosed) {
			return err
		}
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

func (t *talker) mail(hello string) error {
	if _, err := t.reply("the connection", "220"); err != nil {
		return t.first(err)
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
