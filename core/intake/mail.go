package intake

import (
	"bytes"
	"encoding/hex"

	"nurvik/core/facts"
)

// undone is something that a mail program did to the text, and where it was
// met first, in bytes from the start of the file.
type undone struct {
	code   facts.Code
	offset int
}

// unmail undoes what a mail does to a text: the quoted-printable encoding (RFC
// 2045, 6.7), the quoting of an answer, and the escaped hyphens of a text that
// is signed with OpenPGP (RFC 9580, 7.2).
func (t *text) unmail() {
	if at := printedAt(t.data); at >= 0 {
		t.undo(facts.QuotedPrintable, at, unprinted)
	}
	if at := prefixedAt(t.data, '>'); at >= 0 {
		t.undo(facts.QuotedLines, at, func(data []byte, i int) ([]byte, int) {
			if data[i] != '>' || i > 0 && data[i-1] != '\n' && data[i-1] != '\r' {
				return nil, 0
			}
			return nil, len(data[i:]) - len(bytes.TrimLeft(data[i:], "> \t"))
		})
	}
	if at := prefixedAt(t.data, '-'); at >= 0 {
		t.undo(facts.EscapedHyphens, at, func(data []byte, i int) ([]byte, int) {
			if !bytes.HasPrefix(data[i:], []byte("- -")) || i > 0 && data[i-1] != '\n' && data[i-1] != '\r' {
				return nil, 0
			}
			return nil, 2
		})
	}
}

// undo replaces pieces of the text: piece says by what, and how many bytes are replaced, 0 for none.
func (t *text) undo(code facts.Code, first int, piece func(data []byte, i int) (by []byte, size int)) {
	if t.at == nil {
		t.identity()
	}
	t.mail = append(t.mail, undone{code, t.offset(first)})
	out, at := make([]byte, 0, len(t.data)), make([]int32, 0, len(t.data))
	for i := 0; i < len(t.data); {
		by, size := piece(t.data, i)
		if size == 0 {
			by, size = t.data[i:i+1], 1
		}
		for range by {
			at = append(at, t.at[i])
		}
		out = append(out, by...)
		i += size
	}
	t.data, t.at = out, at
}

// prefixedAt finds a BEGIN line that the mark stands in front of; -1 where none has it.
func prefixedAt(data []byte, mark byte) int {
	for position := 0; ; {
		i := bytes.Index(data[position:], beginWord)
		if i < 0 {
			return -1
		}
		start, ok := lineBefore(data, position+i)
		if !ok {
			position += i + len(beginWord)
			continue
		}
		before := data[start : position+i]
		position += i + len(beginWord)
		// "- " alone may be an item of a list, but not in front of five hyphens.
		if len(before) > 2 && before[0] == mark && (mark == '>' || before[1] == ' ') &&
			!bytes.ContainsFunc(before, func(r rune) bool {
				return r < 0x80 && isBase64(byte(r)) && r != '+' &&
					r != '/'
			}) {
			return start
		}
	}
}

// lineBefore finds where the line of a position begins, if that is near: no line of a mail is longer.
func lineBefore(data []byte, position int) (start int, ok bool) {
	const longest = 200
	from := max(0, position-longest)
	i := bytes.LastIndexAny(data[from:position], "\r\n")
	return from + i + 1, i >= 0 || from == 0
}

// printedAt finds what only the quoted-printable encoding writes into a block: the padding as =3D, a hyphen as
// =2D, or a "=" at the end of a long line that goes on; -1 where there is none.
func printedAt(data []byte) int {
	for position := 0; ; {
		i := bytes.IndexByte(data[position:], '=')
		if i < 0 {
			return -1
		}
		i += position
		position = i + 1
		rest := data[i+1:]
		switch {
		case bytes.HasPrefix(rest, []byte("3D")) && i > 0 && isBase64(data[i-1]):
			rest = rest[2:]
			if len(rest) == 0 || rest[0] == '\n' || rest[0] == '\r' || bytes.HasPrefix(rest, []byte("=3D")) {
				return i
			}
		case bytes.HasPrefix(rest, []byte("2D--")):
			return i
		case softBreak(rest) > 0:
			start, ok := lineBefore(data, i)
			if ok && i-start >= 60 && base64Line(bytes.TrimLeft(data[start:i], "> ")) {
				return i
			}
		}
	}
}

// softBreak is the size of a line end behind "=" that does not end the line, in bytes; 0 where it is a real one.
func softBreak(rest []byte) int {
	size := 0
	switch {
	case bytes.HasPrefix(rest, []byte("\r\n")):
		size = 2
	case bytes.HasPrefix(rest, []byte("\n")):
		size = 1
	default:
		return 0
	}
	if next := bytes.TrimLeft(rest[size:], "> \t"); len(next) == 0 || !isBase64(next[0]) && next[0] != '=' {
		return 0
	}
	return size
}

// unprinted decodes one piece of quoted-printable.
func unprinted(data []byte, i int) (by []byte, size int) {
	if data[i] != '=' {
		return nil, 0
	}
	if n := softBreak(data[i+1:]); n > 0 {
		return nil, 1 + n
	}
	if len(data) > i+2 {
		if c, err := hex.DecodeString(string(data[i+1 : i+3])); err == nil {
			return c, 3
		}
	}
	return nil, 0
}
