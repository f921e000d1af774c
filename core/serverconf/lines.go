package serverconf

import (
	"strings"

	"nurvik/core/facts"
)

// textLine is a line of a configuration, put together with its continuations.
type textLine struct {
	text  string
	first int
	last  int
}

// continuation says how a line goes on in the next one.
type continuation int

// The ways.
const (
	byBackslash continuation = iota // a backslash at its end
	byIndent                        // white space at the beginning of the next
	never
)

// logicalLines are the lines of a text without comments, which begin with one of the characters, and without empty
// ones.
func logicalLines(text string, how continuation, comment string) []textLine {
	var out []textLine
	number, open := 0, false
	for line := range strings.Lines(text) {
		number++
		line = strings.TrimRight(line, "\r\n")
		trimmed := strings.TrimSpace(line)
		isComment := trimmed != "" && strings.ContainsRune(comment, rune(trimmed[0]))
		switch {
		case open && how == byBackslash:
			out[len(out)-1].text += " " + strings.TrimSuffix(trimmed, "\\")
			out[len(out)-1].last = number
			open = strings.HasSuffix(trimmed, "\\")
			continue
		case trimmed == "" || isComment:
			continue
		case how == byIndent && len(out) > 0 && (line[0] == ' ' || line[0] == '\t'):
			out[len(out)-1].text += " " + trimmed
			out[len(out)-1].last = number
			continue
		}
		open = how == byBackslash && strings.HasSuffix(line, "\\")
		if how == byBackslash {
			line = strings.TrimSuffix(line, "\\")
		}
		out = append(out, textLine{line, number, number})
	}
	return out
}

// fields parts a line into words; quotes keep white space, and a backslash takes the next character as it is. The
// quotes are removed. ok is false where a quote is not closed.
func fields(text string) (out []string, ok bool) {
	var word strings.Builder
	in, quote := false, byte(0)
	for i := 0; i < len(text); i++ {
		c := text[i]
		switch {
		case c == '\\' && i+1 < len(text) && quote != '\'':
			i++
			word.WriteByte(text[i])
			in = true
		case quote != 0 && c == quote:
			quote = 0
		case quote == 0 && (c == '"' || c == '\''):
			quote, in = c, true
		case quote == 0 && (c == ' ' || c == '\t'):
			if in {
				out = append(out, word.String())
				word.Reset()
			}
			in = false
		default:
			word.WriteByte(c)
			in = true
		}
	}
	if in {
		out = append(out, word.String())
	}
	return out, quote == 0
}

// assignment reads "name = value" or "name value", with a value in quotes of either kind or none, and cuts a comment
// off.
func assignment(text string) (name, value string) {
	text = strings.TrimSpace(text)
	at := strings.IndexAny(text, "= \t")
	if at < 0 {
		return text, ""
	}
	name, value = text[:at], strings.TrimSpace(text[at:])
	if rest, is := strings.CutPrefix(value, "="); is {
		value = strings.TrimSpace(rest)
	}
	if value != "" && (value[0] == '\'' || value[0] == '"') {
		if end := strings.IndexByte(value[1:], value[0]); end >= 0 {
			return name, value[1 : 1+end]
		}
		return name, value[1:]
	}
	return name, strings.TrimSpace(cutComment(value))
}

// settingOf is a line as a setting.
func settingOf(file string, l textLine, name, value string) facts.Setting {
	return facts.Setting{Directive: name, Value: value, Line: facts.Line{File: file, Line: l.first}}
}

// yes reads the words for on.
func yes(value string) bool {
	switch strings.ToLower(value) {
	case "yes", "on", "true", "1", "enable", "enabled", "required":
		return true
	}
	return false
}
