// Package secrets recognises private keys in what callers send, so that they
// can be refused before anything keeps or logs them. It looks at the structure
// behind whatever encoding the key is dressed in, since a key whose parts are
// wrong, missing or encrypted is as secret as any other. A raw number alone
// cannot be told from a digest and is not recognised.
package secrets

import (
	"bytes"
	"compress/gzip"
	"compress/zlib"
	"encoding/json"
	"errors"
	"html"
	"io"
	"net/url"
	"regexp"
	"strings"
)

// Marks in text. Labels are found also where a mail program or an environment
// file bent the dashes or spaces.
var marks = []*regexp.Regexp{
	regexp.MustCompile(`(?i)(?:[-\x{2010}-\x{2015}\x{2212}]|%2D|&#45;|&ndash;|&mdash;)\s*BEGIN[\pZ\s\pP\pS\w]{0,40}?PRIVATE[\pZ\s\pP\pS\w]{1,8}?KEY`),
	regexp.MustCompile(`BEGIN[A-Z0-9 +_%]{0,40}PRIVATE[ +_%20]{1,4}KEY`),
	regexp.MustCompile(`PuTTY-User-Key-File-`),
	regexp.MustCompile(`(?is)<RSAKeyValue>.*<(?:D|P|Q)>`),
}

// Members of a JSON Web Key (RFC 7517 and 7518, 6): with one of the secret ones it is private.
var (
	webKey     = regexp.MustCompile(`(?i)["'\\]*\bkty\b["'\\]*\s*[:=]`)
	webPrivate = regexp.MustCompile(`["'\\]*\b(?:d|p|q|dp|dq|qi|k|priv)\b["'\\]*\s*[:=]\s*["'\\]*[A-Za-z0-9_+/=-]{16,}`)
)

// maxDepth is how many encodings around each other are taken off.
const maxDepth = 4

// maxUnpacked is how much of compressed data is looked at, in bytes: a key is within the first of it.
const maxUnpacked = 1 << 20

// InText reports whether the text holds a private key.
func InText(text string) bool { return inText(text, maxDepth) }

func inText(text string, depth int) bool {
	if marked([]byte(text)) {
		return true
	}
	if depth == 0 || len(text) < shortest {
		return false
	}
	for _, other := range rewritten(text) {
		if inText(other, depth-1) {
			return true
		}
	}
	return decoded(text, func(data []byte, whole bool) bool { return inBytes(data, whole, depth-1) })
}

// marked reports whether a text says of itself that it is a key. Few texts have
// a word that one of the expressions needs, so these are looked for first.
func marked(text []byte) bool {
	upper := bytes.ToUpper(text)
	switch {
	case bytes.Contains(upper, []byte("PRIVATE")), bytes.Contains(upper, []byte("PUTTY")),
		bytes.Contains(upper, []byte("RSAKEYVALUE")):
		for _, mark := range marks {
			if mark.Match(text) {
				return true
			}
		}
	}
	named := false
	for _, after := range []string{`"`, `'`, `\`, ":", "=", " "} {
		named = named || bytes.Contains(upper, []byte("KTY"+after))
	}
	return named && webKey.Match(text) && webPrivate.Match(text)
}

// rewritten are other readings of a text: without escapes of URLs, HTML and mail.
func rewritten(text string) (out []string) {
	if strings.Contains(text, "%") {
		if plain, err := url.QueryUnescape(text); err == nil && plain != text {
			out = append(out, plain)
		}
	}
	if strings.Contains(text, "&") {
		if plain := html.UnescapeString(text); plain != text {
			out = append(out, plain)
		}
	}
	if strings.Contains(text, "=\n") || strings.Contains(text, "=\r") { // quoted-printable (RFC 2045, 6.7)
		out = append(out, strings.ReplaceAll(softBreak.ReplaceAllString(text, ""), "=3D", "="))
	}
	if strings.ContainsAny(text, "\"'`") && joins.MatchString(text) { // strings of programs, put together
		out = append(out, joins.ReplaceAllString(text, ""))
	}
	if strings.Contains(text, `\`) && escapes.MatchString(text) { // of programs and nested JSON
		out = append(out, escapes.ReplaceAllString(text, " "))
	}
	return out
}

var (
	softBreak = regexp.MustCompile(`=\r?\n`)
	joins     = regexp.MustCompile("[\"'`][ \\t]*[+.&\\\\]?[ \\t]*\\r?\\n?[ \\t]*[+.&]?[ \\t]*[\"'`]")
	escapes   = regexp.MustCompile(`\\+[nrt]`)
)

// inBytes looks at bytes that came out of an encoding. whole says that they are
// all that there is, and not a part of something longer.
func inBytes(data []byte, whole bool, depth int) bool {
	if hasKey(data, whole) {
		return true
	}
	if depth == 0 {
		return false
	}
	for i := 0; i+2 < len(data); i++ {
		var unpacked io.ReadCloser
		var err error
		switch {
		case data[i] == 0x1f && data[i+1] == 0x8b && data[i+2] == 8:
			unpacked, err = gzip.NewReader(bytes.NewReader(data[i:]))
		case i == 0 && data[0] == 0x78 && (int(data[0])<<8|int(data[1]))%31 == 0:
			unpacked, err = zlib.NewReader(bytes.NewReader(data))
		default:
			continue
		}
		if err != nil {
			continue
		}
		inner, _ := io.ReadAll(io.LimitReader(unpacked, maxUnpacked)) // what breaks off is looked at as far as it goes
		if len(inner) > 0 && (inBytes(inner, true, depth-1) || inText(string(inner), depth-1)) {
			return true
		}
	}
	if text, ok := asText(data); ok {
		return inText(text, depth)
	}
	return false
}

// asText is the text that bytes are, if only from the second one on, in UTF-8 or UTF-16.
func asText(data []byte) (string, bool) {
	if zeros := bytes.Count(data, []byte{0}); zeros*3 > len(data) {
		data = bytes.ReplaceAll(data, []byte{0}, nil)
	}
	printable := 0
	for _, b := range data {
		if b >= ' ' && b < 0x7f || b == '\n' || b == '\r' || b == '\t' {
			printable++
		}
	}
	return string(data), len(data) > 0 && printable*10 >= len(data)*9
}

// InJSON reports whether any string of the document, escaped as it may be,
// holds a private key. What is no JSON is looked through as text.
func InJSON(body []byte) bool {
	if marked(body) {
		return true
	}
	decoder := json.NewDecoder(bytes.NewReader(body))
	decoder.UseNumber()
	var numbers strings.Builder // lists of numbers may be bytes
	for {
		token, err := decoder.Token()
		if errors.Is(err, io.EOF) {
			return numbers.Len() >= shortest && InText(numbers.String())
		}
		if err != nil {
			return InText(strings.ToValidUTF8(string(body), " "))
		}
		switch x := token.(type) {
		case string:
			if len(x) >= shortest && InText(x) {
				return true
			}
		case json.Number:
			if len(x) <= 3 && numbers.Len() < maxUnpacked {
				numbers.WriteString(x.String() + " ")
			}
		}
	}
}
