package serverconf

import (
	"strings"

	"nurvik/core/facts"
)

// bracesReader reads the form of nginx: words that end with a semicolon or open
// a block in braces, comments from # to the end of the line, quotes, and raw
// blocks of other languages.
type bracesReader struct {
	r    *reading
	file string
	text string
	at   int
	line int
	// include is called for each include, with its directive; what it returns stands in its place.
	include func(*Directive) []*Directive
	raw     func(name string) bool // blocks of another language, which are passed over
}

// block reads statements up to the closing brace, or to the end of the text. closed tells which.
func (b *bracesReader) block(depth int, opened facts.Line) (out []*Directive, closed bool) {
	for {
		d, end := b.statement(depth)
		switch {
		case b.r.full:
			return out, true
		case d != nil && strings.EqualFold(d.Name, "include") && !d.Opens:
			out = append(out, b.include(d)...)
		case d != nil:
			out = append(out, d)
		case end == '}' && depth == 0:
			b.r.broken(b.here(), facts.ConfSyntax, "there is a \"}\" too many")
		case end == '}':
			return out, true
		default:
			if depth > 0 {
				b.r.broken(opened, facts.ConfSyntax, "the block that begins here is not closed")
			}
			return out, false
		}
	}
}

func (b *bracesReader) here() facts.Line { return facts.Line{File: b.file, Line: b.line} }

// deepestBlock is how deep blocks may lie in each other.
const deepestBlock = 64

// statement reads one statement; none with what ended the block.
func (b *bracesReader) statement(depth int) (d *Directive, end byte) {
	start := -1
	for {
		word, quoted, stop := b.word()
		if word != "" || quoted {
			if d == nil {
				d = &Directive{Name: word, Line: b.here()}
				start = b.at
			} else {
				d.Args = append(d.Args, word)
			}
		}
		switch stop {
		case ' ':
			continue
		case ';':
			if d == nil {
				continue
			}
			d.Last = b.line
			d.Text = strings.TrimSpace(b.text[start:max(start, b.at-1)])
			b.r.one(d.Line)
			return d, ';'
		case '{':
			if d == nil {
				d = &Directive{Line: b.here()}
			}
			if !b.r.one(d.Line) {
				return nil, 0
			}
			if depth == deepestBlock {
				b.r.limit(d.Line, facts.ConfTooDeep, deepestBlock)
				return nil, 0
			}
			d.Opens = true
			if b.raw != nil && b.raw(d.Name) {
				b.skipRaw()
			} else {
				d.Block, _ = b.block(depth+1, d.Line)
			}
			d.Last = b.line
			return d, '{'
		default: // } or the end of the text
			if d != nil {
				b.r.broken(d.Line, facts.ConfSyntax, "the directive "+d.Name+" does not end with \";\"")
				if stop == '}' {
					b.at-- // it closes the block all the same
				}
				d.Last = b.line
				return d, ';'
			}
			return nil, stop
		}
	}
}

// word reads a word, and what follows it: a space, one of ; { }, or 0 at the end.
func (b *bracesReader) word() (word string, quoted bool, stop byte) {
	var out strings.Builder
	for b.at < len(b.text) {
		c := b.text[b.at]
		b.at++
		switch {
		case c == '\n':
			b.line++
			fallthrough
		case c == ' ', c == '\t', c == '\r':
			if out.Len() > 0 || quoted {
				if c == '\n' { // the word stands on the line before
					b.at--
					b.line--
				}
				return out.String(), quoted, ' '
			}
		case c == '#' && out.Len() == 0 && !quoted:
			for b.at < len(b.text) && b.text[b.at] != '\n' {
				b.at++
			}
		case c == ';', c == '{' && !strings.HasSuffix(out.String(), "$"), c == '}' &&
			!strings.Contains(out.String(), "${"):
			return out.String(), quoted, c
		case (c == '"' || c == '\'') && out.Len() == 0 && !quoted:
			quoted = true
			if !b.quoted(c, &out) {
				return out.String(), true, 0
			}
		case c == '\\' && b.at < len(b.text):
			out.WriteByte(c)
			out.WriteByte(b.text[b.at])
			if b.text[b.at] == '\n' {
				b.line++
			}
			b.at++
		default:
			out.WriteByte(c)
		}
	}
	return out.String(), quoted, 0
}

// quoted reads to the closing quote.
func (b *bracesReader) quoted(quote byte, out *strings.Builder) bool {
	opened := b.here()
	for b.at < len(b.text) {
		c := b.text[b.at]
		b.at++
		switch {
		case c == quote:
			return true
		case c == '\\' && b.at < len(b.text) && (b.text[b.at] == quote || b.text[b.at] == '\\'):
			out.WriteByte(b.text[b.at])
			b.at++
			continue
		case c == '\n':
			b.line++
		}
		out.WriteByte(c)
	}
	b.r.broken(opened, facts.ConfSyntax, "the quote that begins here is not closed")
	return false
}

// skipRaw passes over a block of another language, in which only braces count.
func (b *bracesReader) skipRaw() {
	for depth := 1; b.at < len(b.text); b.at++ {
		switch c := b.text[b.at]; c {
		case '\n':
			b.line++
		case '"', '\'':
			if end := strings.IndexByte(b.text[b.at+1:], c); end >= 0 &&
				!strings.Contains(b.text[b.at+1:b.at+1+end], "\n") {
				b.at += end + 1
			}
		case '-':
			if strings.HasPrefix(b.text[b.at:], "--") { // a comment of Lua
				for b.at+1 < len(b.text) && b.text[b.at+1] != '\n' {
					b.at++
				}
			}
		case '{':
			depth++
		case '}':
			if depth--; depth == 0 {
				b.at++
				return
			}
		}
	}
}
