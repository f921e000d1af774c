package intake

import (
	"bytes"
	"html"
	"sort"
	"unicode/utf16"
	"unicode/utf8"

	"nurvik/core/facts"
)

// text is a file's text in a form that can be read on: UTF-8 with plain
// hyphens and real line ends. It knows where in the file each byte came from.
type text struct {
	original []byte
	data     []byte
	at       []int32 // for each byte of data its offset in the original; nil where they are the same
	oddities []oddity
	escaped  bool // line ends were written as \n
	mail     []undone

	counted, line int // how far lines were counted, in bytes of the original

	asked, blocks bool // whether data was searched for BEGIN and END lines, and has any
}

// mentionsBlocks searches once: rewriting adds no lines to a text that has none.
func (t *text) mentionsBlocks() bool {
	if !t.asked {
		t.asked, t.blocks = true, mentionsBlocks(t.data)
	}
	return t.blocks
}

// oddity is a place that had to be rewritten.
type oddity struct {
	kind     facts.DefectKind
	position int // in data
}

// offset is the place of a byte of data in the file.
func (t *text) offset(position int) int {
	switch {
	case t.at == nil:
		return position
	case position < len(t.at):
		return int(t.at[position])
	}
	return len(t.original)
}

// lineOf is the number of the line, from 1, on which a byte of data lies.
// Lines end as Unix, Windows or old Macs end them.
func (t *text) lineOf(position int) int {
	return t.lineAt(t.offset(position))
}

// lineAt is the number of the line, from 1, of a byte of the file.
func (t *text) lineAt(offset int) int {
	offset = min(offset, len(t.original))
	if t.line == 0 || offset < t.counted {
		t.counted, t.line = 0, 1
	}
	part := t.original[t.counted:offset]
	t.line += bytes.Count(part, []byte{'\n'})
	for i := bytes.IndexByte(part, '\r'); i >= 0; {
		if next := t.counted + i + 1; next >= len(t.original) || t.original[next] != '\n' {
			t.line++
		}
		more := bytes.IndexByte(part[i+1:], '\r')
		if more < 0 {
			break
		}
		i += 1 + more
	}
	t.counted = offset
	return t.line
}

// odd finds a place of the kind between two positions.
func (t *text) odd(kind facts.DefectKind, from, to int) (position int, found bool) {
	// they are in order
	first := sort.Search(len(t.oddities), func(i int) bool { return t.oddities[i].position >= from })
	for _, o := range t.oddities[first:] {
		if o.position >= to {
			break
		}
		if o.kind == kind {
			return o.position, true
		}
	}
	return 0, false
}

// newText undoes the encoding of the file as a whole.
func newText(data []byte) *text {
	t := &text{original: data, data: data}
	if order, bom := utf16Order(data); order != 0 {
		t.fromUTF16(order, bom)
	} else if bytes.HasPrefix(data, []byte("\xef\xbb\xbf")) {
		t.identity()
		t.data, t.at = t.data[3:], t.at[3:]
		t.oddities = append(t.oddities, oddity{facts.ByteOrderMark, 0})
	}
	return t
}

// normalise rewrites what a mail program, an editor or a page did to a text.
func (t *text) normalise() {
	// What has zeros in it is no text that a program rewrote.
	if bytes.IndexByte(t.data[:min(len(t.data), 1<<13)], 0) < 0 && t.mentionsBlocks() {
		t.unmail()
		t.rewrite()
	}
}

func (t *text) identity() {
	t.at = make([]int32, len(t.data))
	for i := range t.at {
		t.at[i] = int32(i)
	}
}

// utf16Order tells big ('B') or little ('L') endian UTF-16, by its mark or, for Latin text, by
// every other byte being zero.
func utf16Order(data []byte) (order byte, bom int) {
	switch {
	case bytes.HasPrefix(data, []byte{0xfe, 0xff}):
		return 'B', 2
	case bytes.HasPrefix(data, []byte{0xff, 0xfe}):
		return 'L', 2
	case len(data) < 8 || bytes.IndexByte(data[:8], 0) < 0:
		return 0, 0
	}
	var zeros [2]int
	for i, b := range data[:min(len(data), 256)&^1] {
		if b == 0 {
			zeros[i%2]++
		}
	}
	half := min(len(data), 256) / 2
	switch {
	case zeros[0] == half && zeros[1] == 0:
		return 'B', 0
	case zeros[1] == half && zeros[0] == 0:
		return 'L', 0
	}
	return 0, 0
}

func (t *text) fromUTF16(order byte, bom int) {
	raw := t.original
	unit := func(i int) rune {
		if order == 'B' {
			return rune(raw[i])<<8 | rune(raw[i+1])
		}
		return rune(raw[i+1])<<8 | rune(raw[i])
	}
	out, at := make([]byte, 0, len(raw)/2), make([]int32, 0, len(raw)/2)
	for i := bom; i+1 < len(raw); i += 2 {
		r, start := unit(i), i
		if utf16.IsSurrogate(r) && i+3 < len(raw) {
			r = utf16.DecodeRune(r, unit(i+2))
			i += 2
		}
		before := len(out)
		out = utf8.AppendRune(out, r)
		for range len(out) - before {
			at = append(at, int32(start))
		}
	}
	t.data, t.at = out, at
	t.oddities = append(t.oddities, oddity{facts.UTF16, 0})
}

// rewrites tells whether the text has anything to rewrite.
func (t *text) rewrites() (dashes, entities, escapes bool) {
	d := t.data
	dashes = bytes.IndexByte(d, 0xe2) >= 0 || bytes.IndexByte(d, 0xc2) >= 0 || bytes.IndexByte(d, 0xef) >= 0 ||
		bytes.IndexByte(d, 0x96) >= 0 || bytes.IndexByte(d, 0x97) >= 0
	entities = bytes.IndexByte(d, '&') >= 0 || bytes.Contains(d, []byte("<br"))
	escapes = bytes.Contains(d, []byte(`-\n`)) || bytes.Contains(d, []byte(`-\r\n`))
	return dashes, entities, escapes
}

func (t *text) rewrite() {
	dashes, entities, escapes := t.rewrites()
	if !dashes && !entities && !escapes {
		return
	}
	if t.at == nil {
		t.identity()
	}
	source, from := t.data, t.at
	latin := !utf8.Valid(source) // then the dashes of the old Windows page are single bytes
	out, at := make([]byte, 0, len(source)), make([]int32, 0, len(source))
	for i := 0; i < len(source); {
		plain := i
		for i < len(source) && source[i] < 0x80 && source[i] != '&' && source[i] != '<' && source[i] != '\\' {
			i++
		}
		if i == plain { // a character that is none of these may be meant as it is
			i++
		}
		replacement, size, kind := piece(source[plain:], dashes, entities, escapes, latin)
		if size == 0 {
			out, at = append(out, source[plain:i]...), append(at, from[plain:i]...)
			continue
		}
		i = plain
		if kind != "" {
			t.oddities = append(t.oddities, oddity{kind, len(out)})
		}
		for range len(replacement) {
			at = append(at, from[i])
		}
		out = append(out, replacement...)
		i += size
	}
	t.data, t.at, t.escaped = out, at, escapes
}

// piece looks whether something has to be rewritten here: by what, how many bytes, and what was wrong.
func piece(rest []byte, dashes, entities, escapes, latin bool) (replacement string, size int, kind facts.DefectKind) {
	switch c := rest[0]; {
	case escapes && c == '\\' && len(rest) > 1:
		switch rest[1] {
		case 'n':
			return "\n", 2, ""
		case 'r':
			return "", 2, ""
		}
	case entities && c == '&':
		if end := bytes.IndexByte(rest[:min(len(rest), 12)], ';'); end > 1 {
			entity := string(rest[:end+1])
			if plain := html.UnescapeString(entity); plain != entity {
				if inner, n, _ := piece(append([]byte(plain), ' '), true, false, false, false); n > 0 {
					plain = inner
				}
				return plain, end + 1, facts.Entities
			}
		}
	case entities && c == '<' && bytes.HasPrefix(rest, []byte("<br")):
		if end := bytes.IndexByte(rest[:min(len(rest), 8)], '>'); end > 0 {
			return "\n", end + 1, facts.Entities
		}
	case latin && (c == 0x96 || c == 0x97):
		return "-", 1, facts.TypographicDashes
	case dashes && c >= 0x80:
		switch r, n := utf8.DecodeRune(rest); {
		case r >= 0x2010 && r <= 0x2015, r == 0x2212, r == 0xfe58, r == 0xfe63, r == 0xff0d:
			return "-", n, facts.TypographicDashes
		case r == 0xa0, r == 0x200b, r == 0xfeff, r == 0x202f:
			return " ", n, ""
		}
	}
	return "", 0, ""
}
