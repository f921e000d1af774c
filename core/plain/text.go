// Package plain makes text, times and numbers that come from outside fit to be
// kept, sent and shown: whoever runs an endpoint or writes a file chooses them.
// What is collected passes through Clean once, where it becomes a fact, so that
// nothing behind it meets NUL, broken UTF-8, escape sequences of terminals,
// marks that turn the direction of writing, or a year that JSON cannot write.
package plain

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

const (
	// MaxText is the longest text in bytes: more than any path, header or name that people use, and little
	// enough for the index of a database.
	MaxText = 1000
	// MaxName is the longest name in characters, that of a host name.
	MaxName = 253
)

// Text is the text on one line: bytes that are no UTF-8, control characters,
// invisible ones and those that turn the direction of writing are written as
// escapes, such as \x1b. What is longer than MaxText is cut; a digest at the end
// keeps texts apart that begin alike. Clean text stays as it is.
func Text(s string) string {
	if isASCII(s) && len(s) <= MaxText {
		return s
	}
	return cut(escape(s, false), MaxText)
}

// Lines is the same for text of several lines and of any length.
func Lines(s string) string {
	for i := range len(s) {
		if c := s[i]; (c < ' ' || c > '~') && c != '\n' && c != '\t' {
			return escape(s, true)
		}
	}
	return s
}

// Name is the same for a name, which ends with an ellipsis after MaxName characters.
func Name(s string) string {
	if isASCII(s) && len(s) <= MaxName {
		return s
	}
	s = escape(s, false)
	if runes := []rune(s); len(runes) > MaxName {
		return string(runes[:MaxName-1]) + "…"
	}
	return s
}

// Check says which character of the text cannot be kept, for text that a person
// writes: that is refused and not changed. Lines and tabs are let through where asked.
func Check(s string, lines bool) error {
	for i := 0; i < len(s); {
		r, size := utf8.DecodeRuneInString(s[i:])
		if odd(r, size, lines) {
			return fmt.Errorf("the character %s in it cannot be kept: it is invisible or steers terminals",
				escaped(r, s[i]))
		}
		i += size
	}
	return nil
}

func isASCII(s string) bool {
	for i := range len(s) {
		if s[i] < ' ' || s[i] > '~' {
			return false
		}
	}
	return true
}

// odd reports whether a character is not shown as it is.
func odd(r rune, size int, lines bool) bool {
	switch {
	case r == utf8.RuneError && size <= 1:
		return true
	case r == '\n' || r == '\t':
		return !lines
	}
	return r < ' ' || unicode.IsControl(r) || unicode.In(r, unicode.Cf, unicode.Zl, unicode.Zp)
}

func escape(s string, lines bool) string {
	var out strings.Builder
	last := 0
	for i := 0; i < len(s); {
		r, size := utf8.DecodeRuneInString(s[i:])
		if odd(r, size, lines) {
			out.WriteString(s[last:i])
			out.WriteString(escaped(r, s[i]))
			last = i + size
		}
		i += size
	}
	if last == 0 {
		return s
	}
	out.WriteString(s[last:])
	return out.String()
}

func escaped(r rune, first byte) string {
	switch {
	case r < utf8.RuneSelf:
		return fmt.Sprintf(`\x%02x`, r)
	case r == utf8.RuneError:
		return fmt.Sprintf(`\x%02x`, first)
	case r <= 0xffff:
		return fmt.Sprintf(`\u%04x`, r)
	}
	return fmt.Sprintf(`\U%08x`, r)
}

// cut shortens to at most so many bytes, at the end of a character.
func cut(s string, most int) string {
	if len(s) <= most {
		return s
	}
	sum := sha256.Sum256([]byte(s))
	end := "…" + hex.EncodeToString(sum[:4])
	at := most - len(end)
	for !utf8.RuneStart(s[at]) {
		at--
	}
	return s[:at] + end
}
