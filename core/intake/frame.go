package intake

import (
	"bytes"
	"strings"
)

// frame is one labelled block: where its lines are, in the normalised text.
type frame struct {
	start, end         int // of the whole block
	label, endLabel    string
	body, bodyEnd      int
	left, right        int // hyphens around BEGIN
	endLeft, endRight  int // hyphens around END; 0 when there is no END line
	next               int // where to read on
	field              string
	runTogether        bool // on the line where the block before ended
	unpaired, indented bool
	orphan             bool // its BEGIN line is missing
	lower              bool // BEGIN or END are not in capitals
}

var (
	beginWord = []byte("BEGIN ")
	endWord   = []byte("END ")
)

// mentionsBlocks reports whether a text may have BEGIN or END lines: the words with something in front that is a
// hyphen, or may have been one, and with another behind the label. Only such a text is looked at closely.
func mentionsBlocks(data []byte) bool {
	if hyphenated(data, beginWord) || hyphenated(data, endWord) {
		return true
	}
	if !bytes.Contains(data, []byte("--")) {
		return false
	}
	for _, word := range []string{"-begin ", "-end ", "-Begin ", "-End "} {
		for rest := data; ; {
			i := bytes.Index(rest, []byte(word))
			if i < 0 {
				break
			}
			if rest = rest[i+len(word):]; hyphenFollows(rest) {
				return true
			}
		}
	}
	return false
}

// hyphenFollows reports whether a hyphen, or what may have been one, follows on the same line.
func hyphenFollows(rest []byte) bool {
	const longest = 128 // of a label, in bytes, with its spaces and entities
	for _, c := range rest[:min(len(rest), longest)] {
		switch {
		case c == '\n', c == '\r':
			return false
		case c == '-', c == '&', c == '=', c == '\\', c >= 0x80:
			return true
		}
	}
	return false
}

func hyphenated(data, word []byte) bool {
	for position := 0; ; {
		i := bytes.Index(data[position:], word)
		if i < 0 {
			return false
		}
		position += i
		before := data[max(0, position-2):position]
		position += len(word)
		if len(before) == 0 {
			continue
		}
		switch last := before[len(before)-1]; {
		case last == '-', last == ';', last >= 0x80, last == ' ' && before[0] == '-':
			if hyphenFollows(data[position:]) {
				return true
			}
		}
	}
}

// hyphensAfter counts the run that begins at the position.
func hyphensAfter(data []byte, position int) int {
	i := position
	for i < len(data) && data[i] == '-' {
		i++
	}
	return i - position
}

// boundary finds the next line of the kind, in capitals or not: where its word begins, the label as it
// is written, and the hyphens around. It goes from hyphen to hyphen, because base64 has none.
func boundary(data, word []byte, from, limit int) (at int, label string, left, right int, ok bool) {
	const longest = 64
	for position := from; position < limit; {
		i := bytes.IndexByte(data[position:limit], '-')
		if i < 0 {
			break
		}
		left = hyphensAfter(data[:limit], position+i)
		at = position + i + left
		position = at
		if left >= 2 && at < limit && data[at] == ' ' { // as SSH writes it
			at++
		}
		if left < 2 || len(data[at:limit]) < len(word) || !bytes.EqualFold(data[at:at+len(word)], word) {
			continue
		}
		rest := data[at+len(word) : min(limit, at+len(word)+longest+2)]
		end := bytes.Index(rest, []byte("--"))
		if end < 0 || bytes.ContainsAny(rest[:end], "\r\n") {
			continue
		}
		return at, labelOf(rest[:end]), left, hyphensAfter(data, at+len(word)+end), true
	}
	return 0, "", 0, 0, false
}

// findFrame finds the next block. A block without an END line ends where the next one begins.
func findFrame(data []byte, from int) (frame, bool) {
	at, label, left, right, ok := boundary(data, beginWord, from, len(data))
	if !ok {
		return frame{}, false
	}
	start := at - left
	if data[at-1] == ' ' {
		start--
	}
	f := frame{start: start, label: label, left: left, right: right, body: at + len(beginWord) + len(label) + right}
	f.lower = !bytes.HasPrefix(data[at:], beginWord)
	// Where the line begins matters only if that is behind the block before.
	lineStart := from + bytes.LastIndexAny(data[from:f.start], "\r\n") + 1
	if lineStart == from && from > 0 && data[from-1] != '\n' && data[from-1] != '\r' {
		lineStart--
	}
	before := data[max(lineStart, from):f.start]
	switch {
	case lineStart < from && len(bytes.TrimSpace(before)) == 0:
		f.runTogether = true
	case len(before) > 0 && len(bytes.TrimSpace(before)) == 0:
		f.indented = true
	case len(before) > 0:
		f.field = variable(string(before))
	}
	// The END line is looked for up to the next BEGIN only, so that each byte is looked at once.
	limit, nextLeft := len(data), 0
	nextAt, _, left, _, another := boundary(data, beginWord, f.body, len(data))
	if another {
		limit, nextLeft = nextAt, left
	}
	endAt, endLabel, endLeft, endRight, ended := boundary(data, endWord, f.body, limit)
	limit -= nextLeft
	if !ended {
		f.unpaired, f.bodyEnd, f.end, f.next = true, limit, limit, limit
		return f, true
	}
	if endRight >= 10 && bytes.HasPrefix(data[endAt+len(endWord)+len(endLabel)+endRight:], beginWord) {
		endRight -= 5 // the other five belong to the block that follows at once
	}
	f.endLabel, f.endLeft, f.endRight = endLabel, endLeft, endRight
	f.lower = f.lower || !bytes.HasPrefix(data[endAt:], endWord)
	f.bodyEnd = endAt - endLeft
	if data[endAt-1] == ' ' {
		f.bodyEnd--
	}
	f.end = endAt + len(endWord) + len(endLabel) + endRight
	f.next = f.end
	return f, true
}

// variable is the name of an assignment that a line begins with, as in environment files.
func variable(before string) string {
	name := strings.TrimRight(strings.TrimSpace(before), `"'`)
	name = strings.TrimSpace(strings.TrimPrefix(name, "export "))
	trimmed := strings.TrimRight(name, "=: ")
	if trimmed == name || strings.ContainsAny(trimmed, " \t") || len(trimmed) > 64 {
		return ""
	}
	return trimmed
}

// orphan finds a block whose BEGIN line is missing: an END line between the two positions, with lines of
// base64 right above it.
func orphan(data []byte, from, to int) (frame, bool) {
	at, label, left, right, ok := boundary(data, endWord, from, to)
	if !ok {
		return frame{}, false
	}
	f := frame{label: label, endLabel: label, left: 5, right: 5, endLeft: left, endRight: right, orphan: true,
		bodyEnd: at - left, end: at + len(endWord) + len(label) + right, lower: !bytes.HasPrefix(data[at:], endWord)}
	f.next = f.end
	f.body = f.bodyEnd
	for f.body > from {
		line := bytes.TrimRight(data[from:f.body], "\r\n")
		start := from + bytes.LastIndexAny(line, "\r\n") + 1
		if !base64Line(bytes.TrimSpace(data[start:from+len(line)])) &&
			(f.body != f.bodyEnd || start == from+len(line)) {
			break
		}
		f.body = start
	}
	f.start = f.body
	return f, true
}

// base64Line reports whether a line is base64, but for a few characters that may be damage. Words are shorter.
func base64Line(line []byte) bool {
	const least = 24
	if len(line) < least {
		return false
	}
	other := 0
	for _, c := range line {
		if !isBase64(c) && c != '=' {
			other++
		}
	}
	return other <= len(line)/20
}

func isBase64(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' || c == '+' || c == '/'
}

// mostlyBase64 reports whether at least a quarter of the lines are base64.
func mostlyBase64(body []byte) bool {
	lines, good := 0, 0
	for line := range bytes.FieldsFuncSeq(body, func(r rune) bool { return r == '\n' || r == '\r' }) {
		if line = bytes.TrimSpace(line); len(line) > 0 {
			lines++
			if base64Line(line) {
				good++
			}
		}
	}
	return good > 0 && good*4 >= lines
}
