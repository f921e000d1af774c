package secrets

import (
	"encoding/base64"
	"strings"
)

const (
	// shortest is how many characters the shortest key has that is recognised.
	shortest = 40
	// window is how many characters are decoded at once, and overlap how many of them once more with the next ones:
	// what a key begins with is recognised within so many.
	window, overlap = 64 << 10, 2 << 10
)

// decoded calls each with what the text may be in base64, hexadecimal or
// decimal numbers, until one is true. Whatever is none of an encoding's
// characters is passed over, and so is text in front, since every offset is
// tried: keys are pasted with labels, bullets, quotes and line numbers around them.
func decoded(text string, each func(data []byte, whole bool) bool) bool {
	return inBase64(text, each) || inHex(text, each) || inDecimal(text, each)
}

// alphabets are base64 of both kinds (RFC 4648, 4 and 5), and the usual one
// alone, for text in which hyphens and underscores are something else.
var alphabets = []string{"+/-_", "+/"}

func inBase64(text string, each func([]byte, bool) bool) bool {
	for n, special := range alphabets {
		if n > 0 && !strings.ContainsAny(text, "-_") {
			return false // it would be the same once more
		}
		for _, run := range runs(text, special) {
			if len(run) < shortest {
				continue
			}
			for offset := range 4 {
				if windows(run[offset:], each, offset == 0) {
					return true
				}
			}
		}
	}
	return false
}

// runs are the characters of base64 in the text, apart where padding ends one.
func runs(text, special string) []string {
	var out []string
	var run strings.Builder
	for i := range len(text) {
		switch c := text[i]; {
		case c >= 'A' && c <= 'Z', c >= 'a' && c <= 'z', c >= '0' && c <= '9':
			run.WriteByte(c)
		case c == '=':
			if run.Len() > 0 {
				out = append(out, run.String())
				run.Reset()
			}
		case c == '-' && strings.Contains(special, "-"):
			run.WriteByte('+')
		case c == '_' && strings.Contains(special, "_"):
			run.WriteByte('/')
		case c == '+', c == '/':
			run.WriteByte(c)
		}
	}
	return append(out, run.String())
}

// windows decodes a run piece by piece, so that a large one takes little memory.
func windows(run string, each func([]byte, bool) bool, first bool) bool {
	buffer := make([]byte, base64.RawStdEncoding.DecodedLen(min(len(run), window)))
	for at := 0; at < len(run); at += window - overlap {
		piece := run[at:min(at+window, len(run))]
		if len(piece)%4 == 1 { // a character alone is none
			piece = piece[:len(piece)-1]
		}
		n, err := base64.RawStdEncoding.Decode(buffer, []byte(piece))
		if err == nil && n > 0 && each(buffer[:n], first && len(run) <= window) {
			return true
		}
		if at+window >= len(run) {
			return false
		}
	}
	return false
}

// inHex reads hexadecimal digits, with whatever between them: colons, spaces, 0x, commas.
func inHex(text string, each func([]byte, bool) bool) bool {
	text = strings.NewReplacer("0x", " ", "0X", " ", `\x`, " ").Replace(text)
	var digits []byte
	for i := range len(text) {
		switch c := text[i]; {
		case c >= '0' && c <= '9':
			digits = append(digits, c-'0')
		case c >= 'a' && c <= 'f':
			digits = append(digits, c-'a'+10)
		case c >= 'A' && c <= 'F':
			digits = append(digits, c-'A'+10)
		}
	}
	if len(digits) < 2*shortest/3 || len(digits)*4 < len(text) {
		return false // a few letters of some text
	}
	for offset := range 2 {
		data := make([]byte, 0, len(digits)/2)
		for i := offset; i+1 < len(digits); i += 2 {
			data = append(data, digits[i]<<4|digits[i+1])
		}
		if each(data, offset == 0) {
			return true
		}
	}
	return false
}

// inDecimal reads numbers from 0 to 255, as programs print bytes.
func inDecimal(text string, each func([]byte, bool) bool) bool {
	var data []byte
	for number := range strings.FieldsFuncSeq(text, func(r rune) bool { return r < '0' || r > '9' }) {
		value := 0
		for _, digit := range number {
			value = min(value*10+int(digit-'0'), 1000)
		}
		if value <= 255 {
			data = append(data, byte(value))
		}
	}
	return len(data) >= 2*shortest/3 && len(data)*8 > len(text) && each(data, true)
}
