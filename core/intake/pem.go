package intake

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"strings"

	"nurvik/core/facts"
	"nurvik/core/pki"
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
}

// blocks reads every labelled block and tells whether there was one.
func (s *scan) blocks(t *text) bool {
	any, outside := false, -1 // outside: the first text between blocks
	for position := 0; ; {
		f, ok := findFrame(t.data, position)
		if !ok {
			if any && outside < 0 {
				outside = firstText(t.data, position, len(t.data))
			}
			break
		}
		if outside < 0 && f.field == "" {
			outside = firstText(t.data, position, f.start)
		}
		any = true
		s.frame(t, f)
		position = f.next
	}
	if any {
		s.whole(t, outside)
	}
	return any
}

func firstText(data []byte, from, to int) int {
	for i := from; i < to; i++ {
		if c := data[i]; c > ' ' && c != '"' && c != '\'' && c != ',' && c != ';' {
			return i
		}
	}
	return -1
}

// whole notes what concerns the text as a whole.
func (s *scan) whole(t *text, outside int) {
	if outside >= 0 {
		s.defectAt(t, outside, facts.TextBetween, facts.Standard, facts.TextOutside)
	}
	for _, o := range t.oddities {
		switch o.kind {
		case facts.UTF16:
			s.defect(facts.UTF16, facts.Outside, 1, 0, facts.InUTF16)
		case facts.ByteOrderMark:
			s.defect(facts.ByteOrderMark, facts.Outside, 1, 0, facts.BeginsWithMark)
		}
	}
	if i := bytes.IndexByte(t.data, '\r'); i >= 0 {
		kind := facts.OldMacLines
		if i+1 < len(t.data) && t.data[i+1] == '\n' {
			kind = facts.WindowsLines
		}
		s.defectAt(t, i, facts.LineEnds, facts.Standard, kind)
	}
}

var (
	beginWord = []byte("BEGIN ")
	endWord   = []byte("END ")
)

// hyphensAfter counts the run that begins at the position.
func hyphensAfter(data []byte, position int) int {
	i := position
	for i < len(data) && data[i] == '-' {
		i++
	}
	return i - position
}

// boundary finds the next line of the kind: where its word begins, the label, and the hyphens around.
// It goes from hyphen to hyphen, because base64 has none.
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
		if left < 2 || !bytes.HasPrefix(data[at:limit], word) {
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
	f := frame{start: at - left, label: label, left: left, right: right, body: at + len(beginWord) + len(label) + right}
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
	f.bodyEnd = endAt - endLeft
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

// frame reads one block, its form first and then its contents.
func (s *scan) frame(t *text, f frame) {
	if other := foreign(f.label); other != "" {
		s.foreign = other
		return
	}
	if !resembles(f.label) && !s.holdsMaterial(t, f) {
		return // somebody else's block
	}
	around := s.place
	defer func() { s.place = around }()
	s.place.Line, s.place.Offset = s.at(t, f.start)
	s.place.Form, s.place.PEMLabel = joined(around.Form, "PEM"), f.label
	if labels[f.label] == isNothing {
		s.place.PEMLabel = pki.Printable(f.label)
	}
	if t.escaped {
		s.place.Form = joined(around.Form, "PEM with escaped line ends")
	}
	if f.field != "" {
		s.place.Field = pki.Printable(f.field)
	}
	body, odd := bytes.TrimRight(t.data[f.body:f.bodyEnd], " \t"), false
	for _, o := range []struct {
		kind facts.DefectKind
		code facts.Code
	}{{facts.TypographicDashes, facts.Dashes}, {facts.Entities, facts.HTMLEntities}} {
		if p, found := t.odd(o.kind, f.start, f.end); found {
			odd = true
			s.defectAt(t, p, o.kind, facts.Outside, o.code)
		}
	}
	if f.unpaired {
		if len(bytes.TrimSpace(body)) == 0 {
			s.damaged(facts.LoneBegin)
			return
		}
		s.damaged(facts.BlockCutOff)
	} else if !odd {
		s.boundaries(f)
	}
	if f.runTogether {
		s.defectAt(t, f.start, facts.RunTogether, facts.Lax, facts.BeginRunsOn)
	}
	headers, start := pemHeaders(body)
	form := lineForm(body[start:], f.indented, f.unpaired)
	if form.space >= 0 || f.indented {
		p := f.start
		if !f.indented {
			p = f.body + start + form.space
		}
		s.defectAt(t, p, facts.WhiteSpace, facts.Lax, facts.SpaceInside)
	}
	if form.length > 0 {
		s.defectAt(t, f.body+start+form.at, facts.LineLength, facts.Lax, facts.LineOfOtherLength, form.length)
	}
	if !f.unpaired && !form.closed {
		s.defectAt(t, f.bodyEnd, facts.RunTogether, facts.Lax, facts.EndRunsOn)
	}
	der, reason := decodeBody(body[start:])
	if reason != "" {
		if !f.unpaired {
			s.damaged(facts.BlockDamaged, reason)
		}
		return
	}
	s.block(strings.TrimSpace(f.label), headers["DEK-Info"], der, f.unpaired)
}

// holdsMaterial reports whether a block under a label that says nothing holds material.
func (s *scan) holdsMaterial(t *text, f frame) bool {
	der, reason := decodeBody(t.data[f.body:f.bodyEnd])
	return reason == "" && len(der) > 0 && shapeOf(der) != isNothing
}

func joined(outer, inner string) string {
	if outer == "" {
		return inner
	}
	return inner + " in " + outer
}

// boundaries compares both lines with the grammar: five hyphens, one space, the same label.
func (s *scan) boundaries(f frame) {
	switch {
	case f.left != 5 && f.left < 10, f.right != 5, f.endLeft != 5, f.endRight != 5:
		s.defect(facts.WrongLabel, facts.Outside, s.place.Line, s.place.Offset, facts.LabelHyphens)
	case f.label != strings.TrimSpace(f.label), f.endLabel != strings.TrimSpace(f.endLabel):
		s.defect(facts.WrongLabel, facts.Outside, s.place.Line, s.place.Offset, facts.LabelSpaces)
	case f.label != f.endLabel:
		s.defect(facts.WrongLabel, facts.Outside, s.place.Line, s.place.Offset, facts.LabelsDiffer,
			pki.Printable(f.label), pki.Printable(f.endLabel))
	}
}

// pemHeaders reads lines such as DEK-Info in front of the contents (RFC 1421, 4.6), and tells where these begin.
func pemHeaders(body []byte) (headers map[string]string, start int) {
	if bytes.IndexByte(body, ':') < 0 {
		return nil, 0
	}
	headers = map[string]string{}
	for start < len(body) {
		end := bytes.IndexByte(body[start:], '\n')
		if end < 0 {
			return headers, start
		}
		line := strings.TrimSpace(string(body[start : start+end]))
		name, value, found := strings.Cut(line, ":")
		if !found && line != "" {
			return headers, start
		}
		start += end + 1
		if found {
			headers[name] = strings.TrimSpace(value)
		} else if len(headers) > 0 {
			return headers, start
		}
	}
	return headers, start
}

// form is what the lines of a block look like.
type form struct {
	space  int // where the first white space is that is no line end; -1 for none
	length int // of the first line that has not 64 characters, 0 when all have
	at     int // where that line is
	closed bool
}

// lineForm looks at each line of the base64. Everything regular is passed quickly.
func lineForm(body []byte, indented, unpaired bool) form {
	f := form{space: -1, closed: true}
	rest := body
	for i := 0; i < 2 && len(rest) > 0 && (rest[0] == '\r' || rest[0] == '\n'); i++ { // the end of the BEGIN line
		if rest[0] == '\n' {
			rest = rest[1:]
			break
		}
		rest = rest[1:]
	}
	if n := len(body); n > 0 && !unpaired {
		f.closed = body[n-1] == '\n' || body[n-1] == '\r' || indented
	}
	pending, pendingAt, carriage := 0, 0, bytes.IndexByte(body, '\r') >= 0
	for len(rest) > 0 {
		end := bytes.IndexByte(rest, '\n')
		if carriage {
			if cr := bytes.IndexByte(rest, '\r'); cr >= 0 && (end < 0 || cr < end) {
				end = cr
			}
		}
		line := rest
		if end >= 0 {
			line = rest[:end]
		}
		at := len(body) - len(rest)
		if end < 0 {
			rest = nil
		} else if rest = rest[end+1:]; len(rest) > 0 && body[len(body)-len(rest)-1] == '\r' && rest[0] == '\n' {
			rest = rest[1:]
		}
		trimmed := bytes.TrimSpace(line)
		if len(trimmed) != len(line) || len(line) == 0 || bytes.IndexByte(trimmed, ' ') >= 0 ||
			bytes.IndexByte(trimmed, '\t') >= 0 {
			if f.space < 0 {
				f.space = at
			}
		}
		if len(trimmed) == 0 {
			continue
		}
		if pending != 0 && pending != 64 && f.length == 0 {
			f.length, f.at = pending, pendingAt
		}
		pending, pendingAt = len(trimmed), at
	}
	if pending > 64 && f.length == 0 {
		f.length, f.at = pending, pendingAt
	}
	return f
}

// decodeBody decodes base64 past any white space.
func decodeBody(text []byte) (der []byte, reason string) {
	der = make([]byte, len(text)/4*3+6)            // enough with and without padding
	n, err := base64.StdEncoding.Decode(der, text) // passes over line ends, but over no other space
	if err == nil {
		return der[:n], ""
	}
	compact := bytes.Join(bytes.Fields(text), nil)
	if n, err = base64.StdEncoding.Decode(der, compact); err == nil {
		return der[:n], ""
	}
	if n, raw := base64.RawStdEncoding.Decode(der, bytes.TrimRight(compact, "=")); raw == nil {
		return der[:n], "" // the padding is missing or too long
	}
	for _, c := range compact {
		if !strings.ContainsRune("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/=", rune(c)) {
			return nil, fmt.Sprintf("%q is no character of base64", rune(c))
		}
	}
	return nil, fmt.Sprintf("the base64 is damaged: %v", err)
}
