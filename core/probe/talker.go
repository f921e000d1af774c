package probe

import (
	"bufio"
	"errors"
	"io"
	"net"
	"nurvik/core/facts"
	"nurvik/core/pki"
	"slices"
	"strings"
	"syscall"
)

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

// line reads one line without its end and the blanks before that.
func (t *talker) line() (string, error) {
	if t.lines++; t.lines > maxLines {
		return "", unwilling(facts.EndlessDialogue, maxLines)
	}
	text, err := t.in.ReadSlice('\n')
	if errors.Is(err, bufio.ErrBufferFull) {
		return "", unwilling(facts.LongLine, maxLine)
	}
	return strings.TrimRight(string(text), " \t\r\n"), err
}

func (t *talker) say(text string) error {
	_, err := io.WriteString(t.conn, text)
	return err
}

// tooBusy are the codes of replies with which a server turns a connection away: SMTP's and FTP's (RFC 5321, 3.8; RFC
// 959, 5.4), and NNTP's (RFC 3977, 3.2.1).
var tooBusy = []string{"421", "400"}

// reply reads a numbered reply and wants the number. Of a reply with several
// lines those between the first and the last need no number (RFC 959, 4.2).
func (t *talker) reply(what, number string) (lines []string, err error) {
	end := ""
	for {
		line, err := t.line()
		if err != nil {
			return lines, err
		}
		lines = append(lines, line)
		if end == "" && len(line) >= 4 && line[3] == '-' {
			end = line[:3]
		}
		if end != "" && !strings.HasPrefix(line+" ", end+" ") {
			continue
		}
		switch {
		case slices.ContainsFunc(tooBusy, func(code string) bool { return strings.HasPrefix(line, code) }):
			return lines, &busyError{line}
		case strings.HasPrefix(line, "120"): // ready in some minutes, says FTP, and the greeting is to come
			end, lines = "", nil
			continue
		case !strings.HasPrefix(line, number):
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

// greeting reads lines up to one that begins with the word. Those that begin with one of the others turn the
// connection away.
func (t *talker) greeting(word string, away ...string) error {
	for {
		line, err := t.line()
		upper := strings.ToUpper(line)
		switch {
		case err != nil:
			return err
		case slices.ContainsFunc(away, func(w string) bool { return strings.HasPrefix(upper, w) }):
			return &busyError{line}
		case strings.HasPrefix(upper, "* PREAUTH"): // whoever is logged in cannot start TLS (RFC 9051, 6.2.1)
			return unwilling(facts.Unwilling, "the connection", pki.Printable(line))
		case strings.HasPrefix(upper, word):
			return nil
		}
	}
}

func (t *talker) steps(greeting, away, command string, words ...string) error {
	if err := t.first(t.greeting(greeting, away)); err != nil {
		return err
	}
	if err := t.say(command); err != nil {
		return err
	}
	return t.until(strings.TrimSpace(command), words...)
}

// first tells a server that hangs up before it says anything from one whose dialogue goes wrong.
func (t *talker) first(err error) error {
	if t.lines == 1 && (errors.Is(err, io.EOF) || errors.Is(err, syscall.ECONNRESET)) {
		return errHungUp
	}
	return err
}

func (t *talker) numbered(greeting, command, number string) error {
	if _, err := t.reply("the connection", greeting); err != nil {
		return t.first(err)
	}
	if err := t.say(command); err != nil {
		return err
	}
	_, err := t.reply(strings.TrimSpace(command), number)
	return err
}
