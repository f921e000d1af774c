package serverconf

import (
	"strings"

	"nurvik/core/facts"
)

// token is a word, a string, or a sign of a language with values: Lua, and the configuration of lighttpd.
type token struct {
	text   string
	quoted bool // it is a string
	line   int
}

// tokens takes a text apart. comment begins a comment to the end of the line; signs are what stands for itself.
func (r *reading) tokens(file, text, comment string, signs ...string) []token {
	var out []token
	line := 1
	for at := 0; at < len(text); {
		c := text[at]
		switch {
		case c == '\n':
			line++
			at++
		case c == ' ' || c == '\t' || c == '\r':
			at++
		case comment == "--" && strings.HasPrefix(text[at:], "--[["):
			end := strings.Index(text[at:], "]]")
			if end < 0 {
				r.broken(facts.Line{File: file, Line: line}, facts.ConfSyntax,
					"the comment that begins here is not closed")
				return out
			}
			line += strings.Count(text[at:at+end], "\n")
			at += end + 2
		case strings.HasPrefix(text[at:], comment):
			for at < len(text) && text[at] != '\n' {
				at++
			}
		case c == '"' || c == '\'':
			begin := line
			var word strings.Builder
			closed := false
			for at++; at < len(text) && !closed; at++ {
				switch {
				case text[at] == c:
					closed = true
				case text[at] == '\\' && at+1 < len(text):
					at++
					word.WriteByte(text[at])
				default:
					if text[at] == '\n' {
						line++
					}
					word.WriteByte(text[at])
				}
			}
			if !closed {
				r.broken(facts.Line{File: file, Line: begin}, facts.ConfSyntax,
					"the quote that begins here is not closed")
			}
			out = append(out, token{word.String(), true, begin})
		case wordByte(c):
			start := at
			for at < len(text) && wordByte(text[at]) {
				at++
			}
			out = append(out, token{text[start:at], false, line})
		default:
			sign := text[at : at+1]
			for _, s := range signs {
				if strings.HasPrefix(text[at:], s) {
					sign = s
					break
				}
			}
			out = append(out, token{sign, false, line})
			at += len(sign)
		}
		if len(out) > 0 && len(out)%1024 == 0 && !r.one(facts.Line{File: file, Line: line}) {
			return out
		}
	}
	return out
}

func wordByte(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c == '.' || c == '-' ||
		c == ':' ||
		c >= 0x80
}

// value is what stands to the right of an equals sign: a text, or a table of values with or without keys.
type value struct {
	text   string
	quoted bool
	line   int
	keys   []string // of a table, "" for those without
	items  []value
	table  bool
	opaque string // what it depends on, where it cannot be known
}

// of is the value of a table's key.
func (v value) of(key string) (value, bool) {
	for i, k := range v.keys {
		if k == key {
			return v.items[i], true
		}
	}
	return value{}, false
}

// texts are the texts in the value, which may be one.
func (v value) texts() []string {
	if !v.table {
		return []string{v.text}
	}
	var out []string
	for _, item := range v.items {
		out = append(out, item.text)
	}
	return out
}

// deepestTable is how deep tables may lie in each other.
const deepestTable = 32

// readValue reads a value that begins at the token, and returns where it ends. assign parts a key from its value.
func readValue(tokens []token, at int, open, closing, assign string, depth int) (v value, end int) {
	if at >= len(tokens) {
		return value{opaque: "nothing"}, at
	}
	t := tokens[at]
	v.line = t.line
	if t.quoted || t.text != open {
		v.text, v.quoted = t.text, t.quoted
		return v, at + 1
	}
	v.table = true
	at++
	for at < len(tokens) && (tokens[at].quoted || tokens[at].text != closing) {
		t := tokens[at]
		if !t.quoted && (t.text == "," || t.text == ";") {
			at++
			continue
		}
		if depth == deepestTable {
			return v, len(tokens)
		}
		key := ""
		switch {
		case at+3 < len(tokens) && t.text == "[" && tokens[at+2].text == "]" && tokens[at+3].text == assign:
			key = tokens[at+1].text
			at += 4
		case at+1 < len(tokens) && !tokens[at+1].quoted && tokens[at+1].text == assign:
			key = t.text
			at += 2
		}
		var item value
		item, at = readValue(tokens, at, open, closing, assign, depth+1)
		v.keys, v.items = append(v.keys, key), append(v.items, item)
	}
	return v, at + 1
}
