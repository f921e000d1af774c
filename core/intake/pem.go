package intake

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"strings"

	"nurvik/core/facts"
	"nurvik/core/pki"
)

// blocks reads every labelled block and tells whether there was one.
func (s *scan) blocks(t *text) bool {
	if !t.mentionsBlocks() {
		return false
	}
	any, outside := false, -1 // outside: the first text between blocks
	f, ok := findFrame(t.data, 0)
	for position := 0; ; {
		if ok && f.start < position {
			f, ok = findFrame(t.data, position)
		}
		limit := len(t.data)
		if ok {
			limit = f.start
		}
		// An END line in front of the next BEGIN closes a block whose own BEGIN line is missing.
		if lost, found := orphan(t.data, position, limit); found {
			if s.orphan(t, lost) {
				any = true
			}
			position = lost.next
			continue
		}
		if !ok {
			if any && outside < 0 {
				outside = firstText(t.data, position, len(t.data))
			}
			break
		}
		if outside < 0 && f.field == "" {
			outside = firstText(t.data, position, f.start)
		}
		if s.frame(t, f) {
			any = true
		}
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
	for _, m := range t.mail {
		s.defect(facts.MailText, facts.Outside, t.lineAt(m.offset), m.offset, m.code)
	}
	if i := bytes.IndexByte(t.data, '\r'); i >= 0 {
		kind := facts.OldMacLines
		if i+1 < len(t.data) && t.data[i+1] == '\n' {
			kind = facts.WindowsLines
		}
		s.defectAt(t, i, facts.LineEnds, facts.Standard, kind)
	}
}

// frame reads one block, its form first and then its contents. It reports
// whether it is one of ours: not another program's, and more than a mention.
func (s *scan) frame(t *text, f frame) bool {
	f.known()
	if other := foreign(strings.ToUpper(f.label)); other != "" {
		s.foreign = other
		return false
	}
	if !resembles(f.label) && !s.holdsMaterial(t, f) || s.mention(t, f) {
		return false
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
	body := bytes.TrimRight(t.data[f.body:f.bodyEnd], " \t")
	odd := s.rewritten(t, f)
	if f.unpaired {
		if len(bytes.TrimSpace(body)) == 0 {
			s.damaged(facts.LoneBegin)
			return true
		}
		s.damaged(facts.BlockCutOff)
	} else if !odd {
		s.boundaries(f)
	}
	if f.runTogether {
		s.defectAt(t, f.start, facts.RunTogether, facts.Lax, facts.BeginRunsOn)
	}
	headers, start := pemHeaders(body)
	s.form(t, f, body, start)
	der, reason := decodeBody(body[start:])
	if reason != "" {
		if !f.unpaired {
			s.damaged(facts.BlockDamaged, reason)
		}
		return true
	}
	s.block(strings.TrimSpace(f.label), headers["DEK-Info"], der, f.unpaired)
	return true
}

// known writes a label as it is known, where only the case is another.
func (f *frame) known() {
	upper := strings.ToUpper(f.label)
	if upper == f.label || labels[strings.TrimSpace(upper)] == isNothing {
		return
	}
	f.lower = true
	f.endLabel = strings.ToUpper(f.endLabel)
	f.label = upper
}

// mention reports whether a text only speaks of a block, as scripts and manuals
// do: nothing between the lines looks like base64. In a file that is meant for
// material the same is a block that was lost.
func (s *scan) mention(t *text, f frame) bool {
	body := t.data[f.body:f.bodyEnd]
	if first, _, _ := bytes.Cut(bytes.TrimLeft(body, " \t\r\n"), []byte("\n")); base64Line(bytes.TrimSpace(first)) {
		return false
	}
	_, start := pemHeaders(body)
	if mostlyBase64(body[start:]) {
		return false
	}
	if !f.unpaired {
		if der, reason := decodeBody(body[start:]); reason == "" && len(der) > 0 {
			return false // a short block, such as parameters
		}
	}
	lineStart := f.start == 0 || t.data[f.start-1] == '\n' || t.data[f.start-1] == '\r' || f.field != "" ||
		f.runTogether
	return !lineStart || bytes.HasPrefix(t.data, []byte("#!")) || !meant(s.file.Path)
}

// rewritten notes what of a block had to be rewritten.
func (s *scan) rewritten(t *text, f frame) (odd bool) {
	for _, o := range []struct {
		kind facts.DefectKind
		code facts.Code
	}{{facts.TypographicDashes, facts.Dashes}, {facts.Entities, facts.HTMLEntities}} {
		if p, found := t.odd(o.kind, f.start, f.end); found {
			odd = true
			s.defectAt(t, p, o.kind, facts.Outside, o.code)
		}
	}
	return odd
}

// form notes where the lines of a block depart from the strict form, with the
// grammar that still allows it. Any length of line, white space behind a line
// and empty lines behind BEGIN are standard (RFC 7468, section 3, figure 2).
func (s *scan) form(t *text, f frame, body []byte, start int) {
	form := lineForm(body[start:], f.indented, f.unpaired)
	if form.space >= 0 || f.indented {
		p, grammar := f.start, facts.Standard
		if !f.indented {
			p = f.body + start + form.space
		}
		if form.lax || f.indented {
			grammar = facts.Lax
		}
		s.defectAt(t, p, facts.WhiteSpace, grammar, facts.SpaceInside)
	}
	if form.length > 0 {
		s.defectAt(t, f.body+start+form.at, facts.LineLength, facts.Standard, facts.LineOfOtherLength, form.length)
	}
	if !f.unpaired && !form.closed {
		s.defectAt(t, f.bodyEnd, facts.RunTogether, facts.Lax, facts.EndRunsOn)
	}
}

// orphan reads a block whose BEGIN line is missing, where there is one.
func (s *scan) orphan(t *text, f frame) bool {
	f.known()
	if f.body == f.bodyEnd || !resembles(f.label) || !mostlyBase64(t.data[f.body:f.bodyEnd]) {
		return false
	}
	return s.frame(t, f)
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
	case f.orphan:
		s.defect(facts.WrongLabel, facts.Outside, s.place.Line, s.place.Offset, facts.BeginMissing)
	case f.lower:
		s.defect(facts.WrongLabel, facts.Outside, s.place.Line, s.place.Offset, facts.LabelCase)
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
	space  int  // where the first white space is that is no line end; -1 for none
	lax    bool // some of it is more than the standard grammar allows
	length int  // of the first line that has not 64 characters, 0 when all have
	at     int  // where that line is
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
			begun := pending != 0
			f.lax = f.lax || begun && len(trimmed) == 0 && len(rest) > 0 || bytes.ContainsAny(trimmed, " \t") ||
				begun && len(bytes.TrimLeft(line, " \t\v\f")) != len(line)
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
