package pki

import (
	"strings"
	"unicode"
)

// maxPrintable is how many characters of a certificate's text a report shows:
// longer than any name that people use, shorter than what a hostile one holds.
const maxPrintable = 253

// Printable makes text of a certificate fit for terminals, pages and
// databases: control characters, which could steer a terminal, and marks that
// turn the direction of writing are replaced, and what is too long is cut.
func Printable(text string) string {
	text = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || r == unicode.ReplacementChar {
			return unicode.ReplacementChar
		}
		return r
	}, strings.ToValidUTF8(text, "\uFFFD"))
	if runes := []rune(text); len(runes) > maxPrintable {
		return string(runes[:maxPrintable]) + "…"
	}
	return text
}
